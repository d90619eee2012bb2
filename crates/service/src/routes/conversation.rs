//! Checks the conversation, the tools and the form of a chat request before the model is involved.

use std::collections::BTreeSet;

use deft_protocol::chat::{ChatHead, ChatMessage, Content};
use deft_protocol::engine::{
    Constraint, MAX_SCHEMA, Prompt, TooMuch, ToolChoice, ToolOrder, check_values,
};
use deft_protocol::tools::{AnswerForm, MustMatch, ResponseFormat, ToolChoiceField, ToolMode};
use deft_protocol::{Problem, ProblemKind};
use serde_json::{Map, Value};

use crate::answering::gateway::Question;

/// Most tools of a request.
const MAX_TOOLS: usize = 256;
/// Longest name of a tool.
const MAX_NAME: usize = 64;

/// A conversation of another protocol as messages.
#[derive(Debug, Default)]
pub(super) struct Translated {
    pub(super) messages: Vec<ChatMessage>,
    /// The field of the request that each message was made from.
    origins: Vec<String>,
}

impl Translated {
    pub(super) fn push(&mut self, origin: &str, message: ChatMessage) {
        self.messages.push(message);
        self.origins.push(origin.to_owned());
    }

    /// Adds a tool call to the assistant's last message, or to a new one, which `begin` gets.
    pub(super) fn call(&mut self, origin: &str, call: Value, begin: impl FnOnce(&mut ChatMessage)) {
        if self.messages.last().is_none_or(|last| last.role != "assistant") {
            let mut message =
                ChatMessage { role: "assistant".to_owned(), content: None, rest: Map::new() };
            begin(&mut message);
            self.push(origin, message);
        }
        let Some(last) = self.messages.last_mut() else { return };
        let calls = last.rest.entry("tool_calls").or_insert_with(|| Value::Array(Vec::new()));
        if let Value::Array(calls) = calls {
            calls.push(call);
        }
    }

    /// A problem of the messages in the words of the request: with its fields, and with other names.
    pub(super) fn in_its_words(&self, problem: Problem, names: &[(&str, &str)]) -> Problem {
        let number = |(at, origin): (usize, &String)| (format!("messages[{at}]"), origin.clone());
        let fields = self.origins.iter().enumerate().map(number);
        let problem = fields.fold(problem, |problem, (from, to)| renamed(problem, &from, &to));
        names.iter().fold(problem, |problem, (from, to)| renamed(problem, from, to))
    }
}

/// A problem with another name of a field.
pub(super) fn renamed(problem: Problem, from: &str, to: &str) -> Problem {
    let field = problem.field.map(|field| field.replace(from, to));
    Problem { detail: problem.detail.replace(from, to), field, ..problem }
}

/// A refusal of a field.
pub(super) fn invalid(field: &str, code: &str, detail: String) -> Problem {
    Problem::new(ProblemKind::Invalid, code, detail).at_field(field)
}

fn too_much(field: &str, error: TooMuch) -> Problem {
    invalid(field, "field_too_large", format!("`{field}` {error}"))
}

/// The question of a chat request.
///
/// # Errors
/// A field is invalid; the problem names it.
pub(super) fn question(head: &ChatHead) -> Result<Question, Problem> {
    if head.messages.is_empty() {
        return Err(invalid("messages", "messages_empty", "`messages` is empty".to_owned()));
    }
    let form = &head.form;
    let of_messages = head.messages.iter().flat_map(|message| message.rest.values());
    check_values(of_messages).map_err(|error| too_much("messages", error))?;
    check_values(form.tools.iter().flatten()).map_err(|error| too_much("tools", error))?;
    let arguments = template_arguments(form)?;
    let names = tools(form)?;
    check_calls(&head.messages)?;
    let messages = head.messages.iter().enumerate().map(message);
    let messages = messages.collect::<Result<Vec<_>, Problem>>()?;
    let tools = form.tools.clone().filter(|tools| !tools.is_empty());
    Ok(Question {
        constraint: constraint(form)?,
        tools: tool_order(form, &names)?,
        reasoning_budget: form.max_reasoning_tokens,
        scores: scores(head)?,
        ..Question::from(Prompt::Chat { messages, tools, arguments })
    })
}

fn scores(head: &ChatHead) -> Result<Option<u32>, Problem> {
    match (head.logprobs.unwrap_or(false), head.top_logprobs) {
        (true, alternatives) => Ok(Some(alternatives.unwrap_or(0))),
        (false, None | Some(0)) => Ok(None),
        (false, Some(_)) => {
            let detail = "`top_logprobs` requires `logprobs: true`".to_owned();
            Err(invalid("top_logprobs", "field_out_of_range", detail))
        }
    }
}

/// Arguments of the template from the request's fields.
fn template_arguments(form: &AnswerForm) -> Result<Map<String, Value>, Problem> {
    let mut arguments = form.chat_template_kwargs.clone().unwrap_or_default();
    check_values(arguments.values()).map_err(|error| too_much("chat_template_kwargs", error))?;
    if let Some(effort) = &form.reasoning_effort {
        arguments.insert("reasoning_effort".to_owned(), Value::from(effort.clone()));
    }
    Ok(arguments)
}

/// Checks the tools; returns their names.
fn tools(form: &AnswerForm) -> Result<BTreeSet<String>, Problem> {
    let tools = form.tools.as_deref().unwrap_or_default();
    if tools.len() > MAX_TOOLS {
        let detail =
            format!("`tools` has {} entries; at most {MAX_TOOLS} are allowed", tools.len());
        return Err(invalid("tools", "field_out_of_range", detail));
    }
    let mut names = BTreeSet::new();
    for (at, tool) in tools.iter().enumerate() {
        let field = format!("tools[{at}]");
        if tool["type"].as_str().unwrap_or("function") != "function" {
            let detail =
                format!("`{field}.type` is {}; only `function` is supported", tool["type"]);
            return Err(invalid(&format!("{field}.type"), "tool_not_supported", detail));
        }
        let function = &tool["function"];
        let name = function["name"].as_str().unwrap_or_default();
        let is_part = |c: char| c.is_ascii_alphanumeric() || "_-.".contains(c);
        if name.is_empty() || name.len() > MAX_NAME || !name.chars().all(is_part) {
            let detail = format!(
                "`{field}.function.name` must have 1 to {MAX_NAME} letters, digits, `_`, `-` or `.`"
            );
            return Err(invalid(&format!("{field}.function.name"), "tool_name_invalid", detail));
        }
        if !names.insert(name.to_owned()) {
            let detail = format!("`{field}.function.name`: there are two tools `{name}`");
            return Err(invalid(&format!("{field}.function.name"), "tool_twice", detail));
        }
        let parameters = &function["parameters"];
        let field = format!("{field}.function.parameters");
        if !parameters.is_null() && !parameters.is_object() {
            let detail = format!("`{field}` must be a JSON schema of an object");
            return Err(invalid(&field, "schema_invalid", detail));
        }
        schema_fits(&field, parameters)?;
    }
    Ok(names)
}

fn schema_fits(field: &str, schema: &Value) -> Result<(), Problem> {
    let bytes = schema.to_string().len();
    if bytes <= MAX_SCHEMA {
        return Ok(());
    }
    let detail = format!("`{field}` has {bytes} bytes; at most {MAX_SCHEMA} are allowed");
    Err(invalid(field, "schema_too_large", detail))
}

fn tool_order(form: &AnswerForm, names: &BTreeSet<String>) -> Result<ToolOrder, Problem> {
    let choice = match &form.tool_choice {
        None => ToolChoice::Auto,
        Some(ToolChoiceField::Mode(ToolMode::Auto)) => ToolChoice::Auto,
        Some(ToolChoiceField::Mode(ToolMode::None)) => ToolChoice::None,
        Some(ToolChoiceField::Mode(ToolMode::Required)) => ToolChoice::Required,
        Some(ToolChoiceField::Named(named)) => ToolChoice::Named(named.function.name.clone()),
    };
    let missing = match &choice {
        ToolChoice::Named(name) if !names.contains(name) => {
            Some(format!("`tool_choice` names `{name}`, which is none of `tools`"))
        }
        ToolChoice::Required if names.is_empty() => {
            Some("`tool_choice` is `required`, but there are no `tools`".to_owned())
        }
        _ => None,
    };
    match missing {
        Some(detail) => Err(invalid("tool_choice", "tool_choice_invalid", detail)),
        None => Ok(ToolOrder {
            choice,
            several: form.parallel_tool_calls.unwrap_or(true),
            example: None,
        }),
    }
}

fn constraint(form: &AnswerForm) -> Result<Option<Constraint>, Problem> {
    let of_format = match &form.response_format {
        None | Some(ResponseFormat::Text) => None,
        Some(ResponseFormat::JsonObject) => Some(Constraint::Object),
        Some(ResponseFormat::JsonSchema { json_schema }) => {
            let field = "response_format.json_schema.schema";
            let Some(schema) = &json_schema.schema else {
                let detail = format!("`{field}` is missing");
                return Err(invalid(field, "schema_invalid", detail));
            };
            check_values([schema]).map_err(|error| too_much(field, error))?;
            schema_fits(field, schema)?;
            Some(Constraint::Schema(schema.clone()))
        }
    };
    let of_text = match &form.must_match {
        None => None,
        Some(MustMatch::Regex(expression)) => Some(Constraint::Regex(expression.clone())),
        Some(MustMatch::Lark(grammar)) => Some(Constraint::Lark(grammar.clone())),
    };
    match (of_format, of_text) {
        (Some(_), Some(_)) => {
            let detail = "`must_match` and `response_format` exclude one another".to_owned();
            Err(invalid("must_match", "constraints_conflict", detail))
        }
        (one, other) => Ok(one.or(other)),
    }
}

/// Checks that calls and results belong together, and that arguments are JSON.
fn check_calls(messages: &[ChatMessage]) -> Result<(), Problem> {
    // Ids of calls without a result; calls without an id are answered by any result.
    let mut open: Vec<String> = Vec::new();
    for (at, message) in messages.iter().enumerate() {
        let field = |rest: &str| format!("messages[{at}]{rest}");
        match message.role.as_str() {
            "system" | "developer" | "user" | "assistant" | "tool" => {}
            other => {
                let other: String = other.chars().take(40).collect();
                let detail = format!(
                    "`{}` is `{other}`; roles are `system`, `developer`, `user`, `assistant` and `tool`",
                    field(".role")
                );
                return Err(invalid(&field(".role"), "role_unknown", detail));
            }
        }
        let calls = match message.rest.get("tool_calls") {
            None | Some(Value::Null) => &[][..],
            Some(Value::Array(calls)) => calls.as_slice(),
            Some(_) => {
                let detail = format!("`{}` is not a list", field(".tool_calls"));
                return Err(invalid(&field(".tool_calls"), "tool_call_invalid", detail));
            }
        };
        for (number, call) in calls.iter().enumerate() {
            check_call(&field(&format!(".tool_calls[{number}]")), call)?;
            open.push(call["id"].as_str().unwrap_or_default().to_owned());
        }
        if message.role == "tool" {
            let id = message.rest.get("tool_call_id").and_then(Value::as_str);
            let answered =
                open.iter().position(|open| id.is_none_or(|id| open == id || open.is_empty()));
            let Some(answered) = answered else {
                let detail = format!(
                    "`{}` is the result of no tool call: no earlier assistant message has an open call{}",
                    field(""),
                    id.map_or_else(String::new, |id| format!(" with the id `{id}`"))
                );
                return Err(invalid(&field(".tool_call_id"), "tool_result_without_call", detail));
            };
            open.remove(answered);
        }
    }
    Ok(())
}

/// Checks a tool call of the assistant.
///
/// # Errors
/// It has no name, or its arguments are no JSON object.
pub(super) fn check_call(field: &str, call: &Value) -> Result<(), Problem> {
    let function = &call["function"];
    if function["name"].as_str().is_none_or(str::is_empty) {
        let field = format!("{field}.function.name");
        return Err(invalid(&field, "tool_call_invalid", format!("`{field}` is missing")));
    }
    let arguments = &function["arguments"];
    let is_object = match arguments {
        Value::String(text) => serde_json::from_str::<Map<String, Value>>(text).is_ok(),
        other => other.is_object() || other.is_null(),
    };
    if is_object {
        return Ok(());
    }
    let field = format!("{field}.function.arguments");
    let detail = format!("`{field}` must be a JSON object, written as text");
    Err(invalid(&field, "arguments_not_json", detail))
}

/// A message as the template gets it.
fn message((at, message): (usize, &ChatMessage)) -> Result<Map<String, Value>, Problem> {
    let content = message.content.as_ref().map(|content| whole_text(at, content)).transpose()?;
    match serde_json::to_value(ChatMessage { content, ..message.clone() }) {
        Ok(Value::Object(map)) => Ok(map),
        _ => Ok(Map::new()),
    }
}

/// The text of a message. Parts are joined, so that a control token which is divided between parts stays text. Parts that
/// are not text are refused, because no model here reads them.
fn whole_text(message: usize, content: &Content) -> Result<Content, Problem> {
    let Content::Parts(parts) = content else {
        return Ok(content.clone());
    };
    let mut whole = String::new();
    for (at, part) in parts.iter().enumerate() {
        let kind = part.get("type").and_then(Value::as_str).unwrap_or("text");
        let field = format!("messages[{message}].content[{at}]");
        match (kind, part.get("text").and_then(Value::as_str)) {
            ("text", Some(text)) => whole.push_str(text),
            ("text", None) => {
                return Err(invalid(
                    &field,
                    "part_without_text",
                    format!("`{field}` has no `text`"),
                ));
            }
            (other, _) => {
                let other: String = other.chars().take(40).collect();
                let detail = format!("`{field}` is of type `{other}`; models here read text only");
                return Err(invalid(&field, "part_not_supported", detail)
                    .with_way_out("remove this part, or describe its content as text"));
            }
        }
    }
    Ok(Content::Text(whole))
}

#[cfg(test)]
mod tests;
