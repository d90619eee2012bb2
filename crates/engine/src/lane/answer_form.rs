//! What an answer of a conversation may be: reasoning, tool calls, constraints.

use std::sync::Arc;

use deft_protocol::engine::{CallOrder, Prompt, ToolChoice};
use serde_json::{Map, Value, json};

use super::CallError;
use crate::constraint::{Constrained, ConstraintError, Grammar, Tool, tool_calls};
use crate::model::Words;
use crate::output::{CallForm, CallKind, Reader};

/// The field of constraints other than tools.
const FORMAT: &str = "response_format";

/// The form of the answers to a call.
pub(crate) struct AnswerForm {
    /// How tools are called, if the call has any.
    form: Option<Arc<CallForm>>,
    tools: Arc<[String]>,
    constraint: Option<Constrained>,
    /// Whether the constraint applies to tool calls only, which the model may begin.
    is_in_calls: bool,
    is_chat: bool,
}

impl AnswerForm {
    /// The form of the answers to a call; none if they are plain text.
    ///
    /// # Errors
    /// The model writes no tool calls, or a constraint cannot be used.
    pub(super) fn of(words: &Words, order: &CallOrder) -> Result<Option<Arc<Self>>, CallError> {
        let (tools, is_chat) = match &order.prompt {
            Prompt::Chat { tools, .. } if order.tools.choice != ToolChoice::None => {
                (tools.as_deref().unwrap_or_default(), true)
            }
            Prompt::Chat { .. } => (&[][..], true),
            _ => (&[][..], false),
        };
        let form = form(words, order, !tools.is_empty())?;
        let has_reader = is_chat && (form.is_some() || words.form.reasoning.is_some());
        if !has_reader && order.constraint.is_none() {
            return Ok(None);
        }
        let mut constraint = None;
        let mut is_in_calls = false;
        if let Some(form) = &form {
            (constraint, is_in_calls) = constrained_calls(words, order, form, tools)?;
        }
        if let Some(wanted) = &order.constraint {
            let begun = words.constraints.begin(&words.tokenizer, &Grammar::of(wanted));
            let begun =
                begun.map_err(|error| CallError::Constraint { field: FORMAT.to_owned(), error })?;
            // A model that must answer in a form may still call a tool first.
            if constraint.is_none() || is_in_calls {
                (constraint, is_in_calls) = (Some(begun), false);
            }
        }
        let names = tools.iter().filter_map(name).map(ToOwned::to_owned).collect();
        Ok(Some(Arc::new(Self { form, tools: names, constraint, is_in_calls, is_chat })))
    }

    /// A reader of an answer; none if the answer is plain text.
    pub(super) fn reader(&self, words: &Words) -> Option<Reader> {
        let markers = words.form.reasoning.clone().filter(|_| self.is_chat);
        if markers.is_none() && self.form.is_none() {
            return None;
        }
        let is_open = markers.as_ref().is_some_and(|markers| markers.begins_open);
        Some(Reader::new(markers, self.form.clone(), self.tools.clone(), is_open))
    }

    /// The constraint of a new answer, or of a call in it.
    pub(super) fn constraint(&self) -> Option<Constrained> {
        self.constraint.as_ref().and_then(Constrained::fork)
    }

    /// The field of the request that has the constraint.
    pub(super) fn constrained_by(&self) -> &'static str {
        if self.form.is_some() { "tools" } else { FORMAT }
    }

    pub(super) fn is_in_calls(&self) -> bool {
        self.is_in_calls
    }
}

/// The name of a tool.
fn name(tool: &Value) -> Option<&str> {
    tool["function"]["name"].as_str().or_else(|| tool["name"].as_str())
}

/// The form of tool calls, if the call has tools.
fn form(
    words: &Words,
    order: &CallOrder,
    has_tools: bool,
) -> Result<Option<Arc<CallForm>>, CallError> {
    if !has_tools {
        return Ok(None);
    }
    let chosen = order.tools.form.as_deref().and_then(CallKind::named).map(CallForm::of_kind);
    match chosen.or_else(|| words.form.calls.clone()) {
        Some(form) => Ok(Some(Arc::new(form))),
        None => Err(CallError::NoToolCalls),
    }
}

/// The tools as the grammar needs them. Without `strict`, a schema that cannot be used is replaced by any object.
fn grammar_tools(tools: &[Value], any: bool) -> Vec<Tool> {
    let tool = |tool: &Value| {
        let function = tool.get("function").unwrap_or(tool);
        let name = function["name"].as_str()?.to_owned();
        let is_strict = function["strict"].as_bool().unwrap_or(false);
        let arguments = match function.get("parameters") {
            Some(Value::Object(schema)) if !any || is_strict => {
                let mut schema = schema.clone();
                schema.entry("type").or_insert_with(|| json!("object"));
                Value::Object(schema)
            }
            _ => Value::Object(Map::from_iter([("type".to_owned(), json!("object"))])),
        };
        Some(Tool { name, arguments })
    };
    tools.iter().filter_map(tool).collect()
}

/// The constraint of tool calls, and whether it applies only to calls that the model begins.
fn constrained_calls(
    words: &Words,
    order: &CallOrder,
    form: &CallForm,
    tools: &[Value],
) -> Result<(Option<Constrained>, bool), CallError> {
    let is_named = |tool: &&Value| match &order.tools.choice {
        ToolChoice::Named(wanted) => name(tool) == Some(wanted),
        _ => true,
    };
    let tools: Vec<Value> = tools.iter().filter(is_named).cloned().collect();
    let is_auto = order.tools.choice == ToolChoice::Auto;
    let (marker, _) = form.marker();
    // Without a marker, the beginning of a call is known only when its name is complete.
    if is_auto && !marker.chars().any(char::is_alphanumeric) {
        return Ok((None, false));
    }
    let begin = |any: bool| {
        let begins_after = if is_auto { marker } else { "" };
        let tools = grammar_tools(&tools, any);
        let vocabulary = words.tokenizer.vocabulary();
        let grammar = tool_calls(form, &tools, order.tools.several, begins_after, vocabulary);
        words.constraints.begin(&words.tokenizer, &grammar)
    };
    let is_strict = |tool: &Value| tool["function"]["strict"].as_bool().unwrap_or(false);
    let begun = match begin(false) {
        // The library knows less of JSON schemas than callers use.
        Err(ConstraintError::Invalid(_)) if !tools.iter().any(is_strict) => begin(true),
        other => other,
    };
    let begun =
        begun.map_err(|error| CallError::Constraint { field: "tools".to_owned(), error })?;
    Ok((Some(begun), is_auto))
}

/// Earlier calls of a conversation in the form that the template reads: their arguments as objects or as text.
pub(super) fn messages(words: &Words, messages: &[Map<String, Value>]) -> Vec<Map<String, Value>> {
    let as_text = words.form.arguments_as_text;
    let convert = |message: &Map<String, Value>| {
        let mut message = message.clone();
        let calls = message.get_mut("tool_calls").and_then(Value::as_array_mut);
        for call in calls.into_iter().flatten() {
            let Some(arguments) = call.get_mut("function").and_then(|one| one.get_mut("arguments"))
            else {
                continue;
            };
            match arguments {
                Value::String(text) if !as_text => {
                    if let Ok(object) = serde_json::from_str(text) {
                        *arguments = object;
                    }
                }
                Value::Object(fields) if as_text => {
                    *arguments = Value::String(crate::template::spaced_json(fields));
                }
                _ => {}
            }
        }
        message
    };
    messages.iter().map(convert).collect()
}
