//! Messages of blocks as messages of the chat-completions protocol.

use deft_protocol::Problem;
use deft_protocol::chat::ChatMessage;
use deft_protocol::messages::{BlockMessage, BlockRole, Blocks};
use serde_json::{Map, Value, json};

use crate::routes::conversation::{Translated, invalid};

/// The messages of a conversation, the system message first.
///
/// # Errors
/// A block is invalid or not supported; the problem names it.
pub(super) fn messages(
    system: Option<&Blocks>,
    messages: &[BlockMessage],
) -> Result<Translated, Problem> {
    let mut all = Translated::default();
    if let Some(system) = system {
        all.push("system", ChatMessage::text("system", text("system", system)?));
    }
    for (at, message) in messages.iter().enumerate() {
        let field = format!("messages[{at}]");
        match (message.role, &message.content) {
            (BlockRole::User, Blocks::Text(text)) => {
                all.push(&field, ChatMessage::text("user", text.clone()));
            }
            (BlockRole::Assistant, Blocks::Text(text)) => {
                all.push(&field, ChatMessage::text("assistant", text.clone()));
            }
            (BlockRole::User, Blocks::Blocks(blocks)) => user(&mut all, &field, blocks)?,
            (BlockRole::Assistant, Blocks::Blocks(blocks)) => assistant(&mut all, &field, blocks)?,
        }
    }
    if messages.last().is_some_and(|last| last.role == BlockRole::Assistant) {
        let field = format!("messages[{}]", messages.len() - 1);
        let detail =
            format!("`{field}` is of the assistant: an answer cannot begin with a given text here");
        return Err(invalid(&field, "prefill_not_supported", detail)
            .with_way_out("end with a message of the user; to fix the form of the answer, use `output_config.format`"));
    }
    Ok(all)
}

/// Adds the blocks of a user's message: results of tools are messages of their own.
fn user(all: &mut Translated, field: &str, blocks: &[Map<String, Value>]) -> Result<(), Problem> {
    let mut written = String::new();
    for (at, block) in blocks.iter().enumerate() {
        let field_of_block = format!("{field}.content[{at}]");
        if kind(block) == "tool_result" {
            flush(all, field, &mut written);
            all.push(field, result(&field_of_block, block)?);
        } else {
            written.push_str(text_of(&field_of_block, block)?);
        }
    }
    flush(all, field, &mut written);
    Ok(())
}

fn flush(all: &mut Translated, field: &str, written: &mut String) {
    if !written.is_empty() {
        all.push(field, ChatMessage::text("user", std::mem::take(written)));
    }
}

/// The result of a tool call.
fn result(field: &str, block: &Map<String, Value>) -> Result<ChatMessage, Problem> {
    let content = match block.get("content") {
        None | Some(Value::Null) => String::new(),
        Some(content) => {
            let field = format!("{field}.content");
            let blocks: Blocks = serde_json::from_value(content.clone())
                .map_err(|error| invalid(&field, "block_invalid", format!("`{field}`: {error}")))?;
            text(&field, &blocks)?
        }
    };
    // Templates have no sign for a failed call, so that the text says it.
    let failed = block.get("is_error").and_then(Value::as_bool).unwrap_or(false);
    let content = if failed { format!("Error: {content}") } else { content };
    let mut message = ChatMessage::text("tool", content);
    let id = block.get("tool_use_id").cloned().unwrap_or_default();
    message.rest.insert("tool_call_id".to_owned(), id);
    Ok(message)
}

/// Adds the blocks of an assistant's message: one message with text, reasoning and calls.
fn assistant(
    all: &mut Translated,
    field: &str,
    blocks: &[Map<String, Value>],
) -> Result<(), Problem> {
    let (mut written, mut reasoning, mut calls) = (String::new(), String::new(), Vec::new());
    for (at, block) in blocks.iter().enumerate() {
        let field = format!("{field}.content[{at}]");
        let string = |key: &str| block.get(key).and_then(Value::as_str);
        match kind(block) {
            "thinking" => reasoning.push_str(string("thinking").unwrap_or_default()),
            // Other services encrypt reasoning; no model here could read it.
            "redacted_thinking" => {}
            "tool_use" => {
                let input = block.get("input").cloned().unwrap_or_default();
                if string("name").is_none_or(str::is_empty) || !input.is_object() {
                    let detail =
                        format!("`{field}` must have `name`, and `input` with a JSON object");
                    return Err(invalid(&field, "tool_call_invalid", detail));
                }
                let function = json!({"name": string("name"), "arguments": input.to_string()});
                calls.push(json!({"id": string("id"), "type": "function", "function": function}));
            }
            _ => written.push_str(text_of(&field, block)?),
        }
    }
    let is_silent = written.is_empty() && !calls.is_empty();
    let mut message = ChatMessage::text("assistant", written);
    message.content = message.content.filter(|_| !is_silent);
    if !reasoning.is_empty() {
        message.rest.insert("reasoning_content".to_owned(), Value::from(reasoning));
    }
    if !calls.is_empty() {
        message.rest.insert("tool_calls".to_owned(), Value::from(calls));
    }
    all.push(field, message);
    Ok(())
}

/// The text of blocks that can only be text.
pub(super) fn text(field: &str, blocks: &Blocks) -> Result<String, Problem> {
    match blocks {
        Blocks::Text(text) => Ok(text.clone()),
        Blocks::Blocks(blocks) => {
            let text = |(at, block)| text_of(&format!("{field}[{at}]"), block).map(str::to_owned);
            blocks.iter().enumerate().map(text).collect()
        }
    }
}

fn text_of<'b>(field: &str, block: &'b Map<String, Value>) -> Result<&'b str, Problem> {
    if let ("text", Some(text)) = (kind(block), block.get("text").and_then(Value::as_str)) {
        return Ok(text);
    }
    let kind: String = kind(block).chars().take(40).collect();
    let detail =
        format!("`{field}` is of type `{kind}`, or has no text; models here read text only");
    Err(invalid(field, "part_not_supported", detail)
        .with_way_out("remove this block, or describe its content as text"))
}

fn kind(block: &Map<String, Value>) -> &str {
    block.get("type").and_then(Value::as_str).unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn translated(system: Value, given: Value) -> Result<Vec<Value>, (String, String)> {
        let system: Option<Blocks> = serde_json::from_value(system).unwrap();
        let given: Vec<BlockMessage> = serde_json::from_value(given).unwrap();
        let all = messages(system.as_ref(), &given);
        let all = all.map_err(|problem| (problem.code, problem.field.unwrap_or_default()))?;
        Ok(all.messages.iter().map(|message| serde_json::to_value(message).unwrap()).collect())
    }

    #[test]
    fn blocks_become_messages_with_calls_and_results() {
        let found = translated(
            json!([{"type": "text", "text": "Be brief.", "cache_control": {"type": "ephemeral"}}]),
            json!([
                {"role": "user", "content": "How many beans and peas?"},
                {"role": "assistant", "content": [
                    {"type": "thinking", "thinking": "Look it up.", "signature": ""},
                    {"type": "tool_use", "id": "a", "name": "stock_level", "input": {"variety": "bean"}},
                    {"type": "tool_use", "id": "b", "name": "stock_level", "input": {}},
                ]},
                {"role": "user", "content": [
                    {"type": "tool_result", "tool_use_id": "a", "content": "12"},
                    {"type": "tool_result", "tool_use_id": "b", "content": [{"type": "text", "text": "closed"}], "is_error": true},
                    {"type": "text", "text": "Well?"},
                ]},
            ]),
        )
        .unwrap();
        let call = |id: &str, arguments: &str| json!({"id": id, "type": "function", "function": {"name": "stock_level", "arguments": arguments}});
        assert_eq!(
            found,
            [
                json!({"role": "system", "content": "Be brief."}),
                json!({"role": "user", "content": "How many beans and peas?"}),
                json!({"role": "assistant", "content": null, "reasoning_content": "Look it up.",
                    "tool_calls": [call("a", "{\"variety\":\"bean\"}"), call("b", "{}")]}),
                json!({"role": "tool", "content": "12", "tool_call_id": "a"}),
                json!({"role": "tool", "content": "Error: closed", "tool_call_id": "b"}),
                json!({"role": "user", "content": "Well?"}),
            ]
        );
    }

    #[test]
    fn blocks_that_are_not_supported_are_refused_by_name() {
        let user = |block: Value| json!([{"role": "user", "content": [block]}]);
        for (name, given, code, field) in [
            (
                "a picture",
                user(json!({"type": "image"})),
                "part_not_supported",
                "messages[0].content[0]",
            ),
            (
                "a result with a picture",
                user(json!({"type": "tool_result", "content": [{"type": "image"}]})),
                "part_not_supported",
                "messages[0].content[0].content[0]",
            ),
            (
                "a result that is a number",
                user(json!({"type": "tool_result", "content": 12})),
                "block_invalid",
                "messages[0].content[0].content",
            ),
            (
                "a call without a name",
                json!([{"role": "assistant", "content": [{"type": "tool_use", "input": {}}]}]),
                "tool_call_invalid",
                "messages[0].content[0]",
            ),
            (
                "the beginning of the answer",
                json!([{"role": "assistant", "content": "Sow"}]),
                "prefill_not_supported",
                "messages[0]",
            ),
        ] {
            let found = translated(json!(null), given).unwrap_err();
            assert_eq!((&found.0[..], &found.1[..]), (code, field), "{name}");
        }
    }
}
