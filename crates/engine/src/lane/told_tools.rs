//! Tools for a model whose template knows none: the conversation itself tells of them.
//!
//! The system text names the tools and the form of a call, earlier calls are the text of their messages, and results are
//! messages of the user.

use std::collections::HashMap;

use serde_json::{Map, Value};

use crate::output::CallForm;

type Message = Map<String, Value>;

/// Writes tools, calls and results of a conversation as text.
pub(super) fn tell(messages: &mut Vec<Message>, tools: Option<&[Value]>, form: &CallForm) {
    let mut told: Vec<Message> = Vec::new();
    let mut names = HashMap::new();
    let mut follows_result = false;
    for mut message in std::mem::take(messages) {
        let calls = message.remove("tool_calls");
        if let Some(Value::Array(calls)) = calls {
            let written = calls.iter().filter_map(|call| written(call, form, &mut names));
            let texts = std::iter::once(text(&message)).filter(|text| !text.is_empty());
            let all: Vec<String> = texts.chain(written).collect();
            message.insert("content".to_owned(), all.join("\n").into());
        }
        let role = message.get("role").and_then(Value::as_str).unwrap_or_default();
        let (is_result, is_question) = (role == "tool", role == "user");
        if is_result {
            let id = message.get("tool_call_id").and_then(Value::as_str).unwrap_or_default();
            let name = names.get(id).map_or("the call", String::as_str);
            let result = format!("Result of {name}: {}", text(&message));
            message = of("user", result);
        }
        // Many templates refuse two messages of the user in a row.
        match told.last_mut().filter(|_| follows_result && (is_result || is_question)) {
            Some(last) => append(last, &text(&message), "\n"),
            None => told.push(message),
        }
        follows_result = is_result;
    }
    if let Some(tools) = tools.filter(|tools| !tools.is_empty()) {
        let instruction = instruction(tools, form);
        match told.first_mut().filter(|first| first.get("role").is_some_and(is_system)) {
            Some(first) => append(first, &instruction, "\n\n"),
            None => told.insert(0, of("system", instruction)),
        }
    }
    *messages = told;
}

fn is_system(role: &Value) -> bool {
    role == "system" || role == "developer"
}

fn of(role: &str, content: String) -> Message {
    Message::from_iter([
        ("role".to_owned(), Value::from(role)),
        ("content".to_owned(), Value::from(content)),
    ])
}

/// The text of a message; what is not text is written as JSON.
fn text(message: &Message) -> String {
    match message.get("content") {
        None | Some(Value::Null) => String::new(),
        Some(Value::String(text)) => text.clone(),
        Some(other) => other.to_string(),
    }
}

fn append(message: &mut Message, more: &str, between: &str) {
    let text = text(message) + between + more;
    message.insert("content".to_owned(), text.into());
}

/// A call as the model shall write it; remembers the name of its tool.
fn written(call: &Value, form: &CallForm, names: &mut HashMap<String, String>) -> Option<String> {
    let function = call.get("function")?;
    let name = function.get("name")?.as_str()?;
    if let Some(id) = call.get("id").and_then(Value::as_str) {
        names.insert(id.to_owned(), name.to_owned());
    }
    let arguments = match function.get("arguments") {
        Some(Value::Object(fields)) => fields.clone(),
        Some(Value::String(text)) => serde_json::from_str(text).unwrap_or_default(),
        _ => Map::new(),
    };
    Some(form.written(name, &arguments))
}

fn instruction(tools: &[Value], form: &CallForm) -> String {
    let lines: Vec<String> =
        tools.iter().map(|tool| tool.get("function").unwrap_or(tool).to_string()).collect();
    format!(
        "You can call these tools:\n{}\nTo call a tool, answer only with a call. It has this form, with the name and the \
         arguments of the tool:\n{}\nThe result is in the next message.",
        lines.join("\n"),
        form.example()
    )
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;
    use crate::output::{CallKind, of_kind};

    fn told(messages: Value, tools: Option<&[Value]>) -> Value {
        let mut messages: Vec<Message> = serde_json::from_value(messages).unwrap();
        tell(&mut messages, tools, &of_kind(CallKind::PlainJson));
        json!(messages)
    }

    #[test]
    fn tools_calls_and_results_are_text() {
        let tools = [json!({"type": "function", "function": {"name": "stock_level"}})];
        let call = |id: &str, bean: &str| {
            let arguments = json!({"variety": bean}).to_string();
            json!({"id": id, "function": {"name": "stock_level", "arguments": arguments}})
        };
        let found = told(
            json!([
                {"role": "system", "content": "You keep the stock."},
                {"role": "user", "content": "How many?"},
                {"role": "assistant", "content": null, "tool_calls": [call("a", "Moonhook"), call("b", "Ember")]},
                {"role": "tool", "tool_call_id": "a", "content": "34"},
                {"role": "tool", "tool_call_id": "b", "content": "12"},
                {"role": "user", "content": "Thanks."},
            ]),
            Some(&tools),
        );
        insta::assert_json_snapshot!(found);
    }

    #[test]
    fn without_a_system_message_one_is_added_and_without_tools_none() {
        let question = json!([{"role": "user", "content": "How many?"}]);
        assert_eq!(told(question.clone(), None), question);
        let tools = [json!({"name": "stock_level"})];
        let found = told(question, Some(&tools));
        assert_eq!(
            (found[0]["role"].as_str(), found[1]["role"].as_str()),
            (Some("system"), Some("user"))
        );
        assert!(found[0]["content"].as_str().unwrap().contains("{\"name\":\"stock_level\"}"));
    }

    #[test]
    fn a_result_without_a_call_and_broken_arguments_lose_nothing_else() {
        let found = told(
            json!([
                {"role": "assistant", "tool_calls": [{"function": {"name": "f", "arguments": "{broken"}}, 5]},
                {"role": "tool", "content": [1]},
            ]),
            None,
        );
        assert_eq!(found[0]["content"], "{\"name\": \"f\", \"arguments\": {}}");
        assert_eq!(found[1]["content"], "Result of the call: [1]");
    }
}
