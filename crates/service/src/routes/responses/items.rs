//! Items of a conversation as messages.

use deft_protocol::Problem;
use deft_protocol::chat::ChatMessage;
use deft_protocol::responses::ResponseInput;
use serde_json::{Map, Value, json};

use crate::routes::conversation::{Translated, check_call, invalid, renamed};

/// A list of items, whatever the form of the input.
pub(super) fn items(input: ResponseInput) -> Vec<Map<String, Value>> {
    match input {
        ResponseInput::Items(items) => items,
        ResponseInput::Text(text) => {
            let item = json!({"type": "message", "role": "user", "content": text});
            item.as_object().cloned().into_iter().collect()
        }
    }
}

/// The messages of a conversation: the instructions, kept items, new items.
///
/// # Errors
/// An item is invalid or not supported; the problem names it.
pub(super) fn messages(
    instructions: Option<&str>,
    kept: &[Map<String, Value>],
    items: &[Map<String, Value>],
) -> Result<Translated, Problem> {
    let mut all = Translated::default();
    if let Some(instructions) = instructions {
        all.push("instructions", ChatMessage::text("system", instructions));
    }
    let mut reasoning = None;
    for item in kept {
        add(&mut all, &mut reasoning, "previous_response_id", item)?;
    }
    for (at, item) in items.iter().enumerate() {
        add(&mut all, &mut reasoning, &format!("input[{at}]"), item)?;
    }
    Ok(all)
}

/// Adds an item. Reasoning waits for the message or the call that it belongs to.
fn add(
    all: &mut Translated,
    reasoning: &mut Option<String>,
    field: &str,
    item: &Map<String, Value>,
) -> Result<(), Problem> {
    let text = |key: &str| item.get(key).and_then(Value::as_str).unwrap_or_default().to_owned();
    match item.get("type").map_or(Some("message"), Value::as_str) {
        Some("message") => {
            let content = content(&format!("{field}.content"), item.get("content"))?;
            let mut message = ChatMessage::text(&text("role"), content);
            if message.role == "assistant" {
                put_reasoning(&mut message, reasoning.take());
            }
            all.push(field, message);
        }
        Some("function_call") => {
            let call = json!({
                "id": text("call_id"),
                "type": "function",
                "function": {"name": text("name"), "arguments": text("arguments")},
            });
            check_call(field, &call).map_err(|problem| renamed(problem, ".function.", "."))?;
            all.call(field, call, |message| put_reasoning(message, reasoning.take()));
        }
        Some("function_call_output") => {
            let mut message =
                ChatMessage::text("tool", content(&format!("{field}.output"), item.get("output"))?);
            message.rest.insert("tool_call_id".to_owned(), Value::from(text("call_id")));
            all.push(field, message);
        }
        Some("reasoning") => {
            let parts = item.get("content").and_then(Value::as_array).into_iter().flatten();
            let parts: String = parts.filter_map(|part| part["text"].as_str()).collect();
            reasoning.get_or_insert_default().push_str(&parts);
        }
        other => {
            let kind: String = other.unwrap_or("no text").chars().take(40).collect();
            let detail = format!(
                "`{field}.type` is `{kind}`; items are `message`, `function_call`, `function_call_output` and `reasoning`"
            );
            return Err(invalid(&format!("{field}.type"), "item_not_supported", detail)
                .with_way_out("remove this item"));
        }
    }
    Ok(())
}

fn put_reasoning(message: &mut ChatMessage, reasoning: Option<String>) {
    if let Some(reasoning) = reasoning.filter(|text| !text.is_empty()) {
        message.rest.insert("reasoning_content".to_owned(), Value::from(reasoning));
    }
}

/// The text of a message or result.
fn content(field: &str, content: Option<&Value>) -> Result<String, Problem> {
    match content {
        Some(Value::String(text)) => Ok(text.clone()),
        Some(Value::Array(parts)) => {
            let part = |(at, part): (usize, &Value)| {
                let text = match part["type"].as_str() {
                    Some("input_text" | "output_text" | "text") => part["text"].as_str(),
                    Some("refusal") => part["refusal"].as_str(),
                    _ => None,
                };
                text.map(str::to_owned).ok_or_else(|| part_not_supported(field, at, part))
            };
            parts.iter().enumerate().map(part).collect()
        }
        _ => {
            let detail = format!("`{field}` must be a text or a list of parts");
            Err(invalid(field, "item_invalid", detail))
        }
    }
}

fn part_not_supported(field: &str, at: usize, part: &Value) -> Problem {
    let kind: String = part["type"].as_str().unwrap_or("no text").chars().take(40).collect();
    let field = format!("{field}[{at}]");
    let detail = format!("`{field}` is of type `{kind}`; models here read text only");
    invalid(&field, "part_not_supported", detail)
        .with_way_out("remove this part, or describe its content as text")
}

#[cfg(test)]
mod tests {
    use super::*;

    fn translated(input: Value) -> Result<Vec<Value>, (String, String)> {
        let new = items(serde_json::from_value(input).unwrap());
        let kept = items(ResponseInput::Text("Hello".to_owned()));
        let all = messages(Some("Be brief."), &kept, &new);
        let all = all.map_err(|problem| (problem.code, problem.field.unwrap_or_default()))?;
        Ok(all.messages.iter().map(|message| serde_json::to_value(message).unwrap()).collect())
    }

    #[test]
    fn items_become_messages_and_calls_of_one_answer_stay_together() {
        let call = |id: &str| json!({"type": "function_call", "call_id": id, "name": "stock_level", "arguments": "{}"});
        let found = translated(json!([
            {"role": "user", "content": [{"type": "input_text", "text": "How many "}, {"type": "input_text", "text": "beans?"}]},
            {"type": "reasoning", "content": [{"type": "reasoning_text", "text": "Look it up."}], "summary": []},
            call("a"),
            call("b"),
            {"type": "function_call_output", "call_id": "a", "output": "12"},
            {"type": "function_call_output", "call_id": "b", "output": [{"type": "input_text", "text": "3"}]},
            {"type": "message", "role": "assistant", "content": [{"type": "output_text", "text": "15."}]},
        ]))
        .unwrap();
        let function = json!({"name": "stock_level", "arguments": "{}"});
        assert_eq!(
            found,
            [
                json!({"role": "system", "content": "Be brief."}),
                json!({"role": "user", "content": "Hello"}),
                json!({"role": "user", "content": "How many beans?"}),
                json!({"role": "assistant", "content": null, "reasoning_content": "Look it up.", "tool_calls": [
                    {"id": "a", "type": "function", "function": function},
                    {"id": "b", "type": "function", "function": function},
                ]}),
                json!({"role": "tool", "content": "12", "tool_call_id": "a"}),
                json!({"role": "tool", "content": "3", "tool_call_id": "b"}),
                json!({"role": "assistant", "content": "15."}),
            ]
        );
        assert_eq!(translated(json!("Hi")).unwrap()[2], json!({"role": "user", "content": "Hi"}));
    }

    #[test]
    fn items_that_are_not_supported_are_refused_by_name() {
        for (name, item, code, field) in [
            (
                "another type",
                json!({"type": "web_search_call"}),
                "item_not_supported",
                "input[0].type",
            ),
            (
                "a picture",
                json!({"role": "user", "content": [{"type": "input_image"}]}),
                "part_not_supported",
                "input[0].content[0]",
            ),
            ("without content", json!({"role": "user"}), "item_invalid", "input[0].content"),
            (
                "a call without a name",
                json!({"type": "function_call", "arguments": "{}"}),
                "tool_call_invalid",
                "input[0].name",
            ),
            (
                "arguments that are not JSON",
                json!({"type": "function_call", "name": "f", "arguments": "{"}),
                "arguments_not_json",
                "input[0].arguments",
            ),
        ] {
            let found = translated(json!([item])).unwrap_err();
            assert_eq!((&found.0[..], &found.1[..]), (code, field), "{name}");
        }
    }
}
