//! Renders short conversations with a chat template, to see how it writes tool calls and reasoning.
//!
//! The conversations contain words that no template contains. The text around these words shows the form.

use serde_json::{Map, Value, json};

use crate::template::Template;
use crate::tokenizer::Vocabulary;

/// Names of the two tools of the conversations.
pub(super) const NAMES: [&str; 2] = ["deft_probe_first", "deft_probe_second"];
/// The only argument of a call.
pub(super) const KEY: &str = "deft_probe_key";
/// The text of the argument's value.
pub(super) const VALUE: &str = "deft_probe_value";
/// The reasoning of an answer.
pub(super) const THOUGHT: &str = "deft_probe_thought";

const QUESTION: &str = "deft_probe_question";
const PLAIN: &str = "deft_probe_plain";
const RESULT: &str = "deft_probe_result";

/// What a template writes for an assistant's message with calls, without the header and the end of the message.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Probe {
    /// A message with one call.
    pub(super) one: String,
    /// A message with two calls, if the template writes both.
    pub(super) two: Option<String>,
}

fn message(role: &str, content: &str) -> Map<String, Value> {
    let fields = [("role", role), ("content", content)];
    fields.into_iter().map(|(key, value)| (key.to_owned(), Value::from(value))).collect()
}

fn render(template: &Template, messages: &[Map<String, Value>], tools: bool) -> Option<String> {
    let tools: Vec<Value> = NAMES.iter().map(|name| tool(name)).filter(|_| tools).collect();
    let tools = (!tools.is_empty()).then_some(&tools[..]);
    let pieces = template.render(messages, tools).ok()?;
    Some(pieces.into_iter().map(|piece| piece.text).collect())
}

fn tool(name: &str) -> Value {
    let properties = json!({KEY: {"type": "array", "description": "Any values."}});
    json!({"type": "function", "function": {
        "name": name,
        "description": "Does nothing.",
        "parameters": {"type": "object", "properties": properties, "required": [KEY]},
    }})
}

/// The arguments of the calls. The value has parts that only JSON writes like this: templates that print an object
/// otherwise expect the arguments as text.
fn arguments() -> Value {
    json!({KEY: [VALUE, null, true]})
}

/// A message with the first `count` calls.
fn with_calls(count: usize, as_text: bool, content: &Value) -> Map<String, Value> {
    let arguments = match as_text {
        true => Value::from(arguments().to_string().replace("\":", "\": ").replace(',', ", ")),
        false => arguments(),
    };
    let call = |(at, name): (usize, &&str)| {
        let function = json!({"name": name, "arguments": arguments});
        json!({"id": format!("deftcall{at}"), "type": "function", "function": function})
    };
    let calls: Vec<Value> = NAMES.iter().enumerate().take(count).map(call).collect();
    let mut message = message("assistant", "");
    message.insert("content".to_owned(), content.clone());
    message.insert("tool_calls".to_owned(), Value::from(calls));
    message
}

fn result(at: usize) -> Map<String, Value> {
    let mut message = message("tool", RESULT);
    message.insert("tool_call_id".to_owned(), Value::from(format!("deftcall{at}")));
    message.insert("name".to_owned(), Value::from(NAMES[at]));
    message
}

/// Length of the common beginning of two texts.
fn common(a: &str, b: &str) -> usize {
    a.chars().zip(b.chars()).take_while(|(a, b)| a == b).map(|(a, _)| a.len_utf8()).sum()
}

/// What the template writes between the question and the text of an answer.
fn header(template: &Template) -> Option<String> {
    let messages = [
        message("user", QUESTION),
        message("assistant", PLAIN),
        message("user", "deft_probe_next"),
    ];
    let text = render(template, &messages, true)?;
    let start = text.find(QUESTION)? + QUESTION.len();
    Some(text[start..][..text[start..].find(PLAIN)?].to_owned())
}

/// The texts of tokens that end an answer.
fn ends(vocabulary: &Vocabulary) -> Vec<String> {
    let text = |id: u32| vocabulary.get(id).map(|(text, _)| text.to_owned());
    vocabulary.ends().filter_map(text).filter(|text| !text.is_empty()).collect()
}

/// The body of a message with `count` calls; none if the template does not write them.
fn body(
    template: &Template,
    header: &str,
    ends: &[String],
    count: usize,
    as_text: bool,
) -> Option<String> {
    let body = |content: Value| {
        let mut messages = vec![message("user", QUESTION), with_calls(count, as_text, &content)];
        messages.extend((0..count).map(result));
        let text = render(template, &messages, true)?;
        let answer = &text[text.find(QUESTION)? + QUESTION.len()..];
        let answer = &answer[common(header, answer)..];
        let result = answer.find(RESULT)?;
        let last = answer[..result].rfind(VALUE)?;
        let end = ends.iter().filter_map(|end| answer[last..result].find(end.as_str())).min()?;
        let body = &answer[..last + end];
        NAMES[..count].iter().all(|name| body.contains(name)).then(|| body.to_owned())
    };
    body(Value::from("")).or_else(|| body(Value::Null))
}

/// What the template writes for calls whose arguments are text or an object.
pub(super) fn calls(template: &Template, vocabulary: &Vocabulary, as_text: bool) -> Option<Probe> {
    let (header, ends) = (header(template)?, ends(vocabulary));
    let one = body(template, &header, &ends, 1, as_text)?;
    Some(Probe { one, two: body(template, &header, &ends, 2, as_text) })
}

/// What the template writes around the reasoning of the last answer: before it (after the header), and between it and
/// the text of the answer.
pub(super) fn reasoning(template: &Template) -> Option<(String, String)> {
    let mut answer = message("assistant", PLAIN);
    answer.insert("reasoning_content".to_owned(), Value::from(THOUGHT));
    let text = render(template, &[message("user", QUESTION), answer], false)?;
    let answer = &text[text.find(QUESTION)? + QUESTION.len()..];
    let header = header(template)?;
    let answer = &answer[common(&header, answer)..];
    let (before, rest) = answer.split_once(THOUGHT)?;
    let (between, _) = rest.split_once(PLAIN)?;
    Some((before.to_owned(), between.to_owned()))
}

/// The end of a prompt that a new answer follows.
pub(super) fn prompt_end(template: &Template) -> Option<String> {
    let text = render(template, &[message("user", QUESTION)], false)?;
    Some(text[text.rfind(QUESTION)? + QUESTION.len()..].to_owned())
}
