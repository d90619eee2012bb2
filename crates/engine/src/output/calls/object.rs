//! Finds the JSON objects of a probe.

use std::ops::Range;

use serde_json::{Map, Value};

use super::super::probe::{KEY, NAMES, VALUE};
use super::{CallForm, CallKind, CallShape, Probe};

/// The calls of a probe as objects, with the text around them.
pub(super) struct Objects {
    pub(super) opening: String,
    pub(super) separator: Option<String>,
    pub(super) closing: String,
    name: String,
    arguments: String,
    json: [&'static str; 2],
}

impl Objects {
    pub(super) fn into_form(self, kind: CallKind) -> CallForm {
        let Self { opening, separator, closing, name, arguments, json } = self;
        let call = CallShape::Object { name, arguments };
        CallForm { kind, opening, separator, closing, call, json }
    }
}

/// The object in a text whose direct field has the name of a tool: its range, and the keys of name and arguments.
fn object(text: &str, tool: &str) -> Option<(Range<usize>, String, String)> {
    let name_at = text.find(&format!("\"{tool}\""))?;
    for (start, _) in text[..name_at].rmatch_indices('{') {
        let mut objects = serde_json::Deserializer::from_str(&text[start..]).into_iter();
        let Some(Ok(fields)) = objects.next() else { continue };
        let fields: Map<String, Value> = fields;
        let end = start + objects.byte_offset();
        let name = fields.iter().find(|(_, value)| value.as_str() == Some(tool));
        let arguments = fields.iter().find(|(_, value)| has_argument(value));
        if let (Some((name, _)), Some((arguments, _))) = (name, arguments) {
            return Some((start..end, name.clone(), arguments.clone()));
        }
    }
    None
}

/// Whether a value is the arguments of a probe: an object, or a text with one.
fn has_argument(value: &Value) -> bool {
    match value {
        Value::Object(fields) => fields.get(KEY).is_some_and(|value| value[0] == VALUE),
        Value::String(text) => {
            serde_json::from_str(text).is_ok_and(|value: Value| value[KEY][0] == VALUE)
        }
        _ => false,
    }
}

/// The separators of JSON in a text.
pub(super) fn separators(text: &str) -> [&'static str; 2] {
    let comma = if text.contains("null, true") { ", " } else { "," };
    let colon = if text.contains(&format!("\"{KEY}\": ")) { ": " } else { ":" };
    [comma, colon]
}

/// The calls of a probe, if they are objects.
pub(super) fn objects(probe: &Probe) -> Option<Objects> {
    let (range, name, arguments) = object(&probe.one, NAMES[0])?;
    let separator = probe.two.as_ref().and_then(|two| {
        let (first, second) = (object(two, NAMES[0])?.0, object(two, NAMES[1])?.0);
        (first.end <= second.start).then(|| two[first.end..second.start].to_owned())
    });
    Some(Objects {
        opening: probe.one[..range.start].to_owned(),
        separator,
        closing: probe.one[range.end..].to_owned(),
        name,
        arguments,
        json: separators(&probe.one),
    })
}
