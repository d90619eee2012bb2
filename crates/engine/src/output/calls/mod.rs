//! How models write tool calls: a file for each form.
//!
//! | form | example |
//! |---|---|
//! | JSON between markers | `<call>{"name": "f", "arguments": {"x": 1}}</call>` |
//! | JSON after a marker until the end | `[CALL]{"name": "f", "arguments": {"x": 1}}` |
//! | one call per line | `{"name": "f", "arguments": {"x": 1}}` in a line of its own |
//! | name, then arguments | `<call=f>{"x": 1}</call>` |
//! | function-call syntax | `[f(x=1), g(y="a")]` |
//! | several calls in a list | `[{"name": "f", "arguments": {"x": 1}}, ...]` |
//! | plain JSON | `{"name": "f", "arguments": {"x": 1}}`, the whole answer |

mod example;
mod function_syntax;
mod json_between_markers;
mod json_to_end;
mod line_per_call;
mod list;
mod name_then_arguments;
mod object;
mod plain_json;
pub(super) mod scan;

pub use example::is_example;
use serde_json::{Map, Value};

use super::probe::{self, Probe};
use crate::template::Template;
use crate::tokenizer::Vocabulary;

/// The forms.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum CallKind {
    /// JSON between markers.
    JsonBetweenMarkers,
    /// JSON after a marker, until the end of the answer.
    JsonToEnd,
    /// A JSON object in a line for each call.
    LinePerCall,
    /// The name of the tool, then its arguments as JSON.
    NameThenArguments,
    /// The syntax of function calls with named arguments.
    FunctionSyntax,
    /// A list of JSON objects.
    List,
    /// A JSON object that is the whole answer.
    PlainJson,
}

impl CallKind {
    /// All forms.
    #[cfg(test)]
    pub(crate) const ALL: [Self; 7] = [
        Self::JsonBetweenMarkers,
        Self::JsonToEnd,
        Self::LinePerCall,
        Self::NameThenArguments,
        Self::FunctionSyntax,
        Self::List,
        Self::PlainJson,
    ];

    /// The name for people.
    #[must_use]
    pub const fn name(self) -> &'static str {
        match self {
            Self::JsonBetweenMarkers => "json-between-markers",
            Self::JsonToEnd => "json-to-end",
            Self::LinePerCall => "line-per-call",
            Self::NameThenArguments => "name-then-arguments",
            Self::FunctionSyntax => "function-syntax",
            Self::List => "list",
            Self::PlainJson => "plain-json",
        }
    }
}

/// How one call is written.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum CallShape {
    /// A JSON object with a name and arguments, under these keys.
    Object {
        /// Key of the name.
        name: String,
        /// Key of the arguments.
        arguments: String,
    },
    /// The name, this text, and the arguments as a JSON object.
    Named {
        /// The text between name and arguments.
        middle: String,
    },
    /// `name(key=value, ...)`.
    Syntax,
}

/// How a model writes tool calls.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CallForm {
    /// The form.
    pub kind: CallKind,
    /// The text before the first call.
    pub opening: String,
    /// The text between two calls; none if an answer has one call only.
    pub separator: Option<String>,
    /// The text after the last call.
    pub closing: String,
    /// How one call is written.
    pub call: CallShape,
    /// The separators of JSON: between entries, and between key and value.
    pub json: [&'static str; 2],
}

impl CallForm {
    /// The text that announces a call, and the text that must follow it before the first call.
    pub(crate) fn marker(&self) -> (&str, &'static str) {
        let opening = self.opening.trim();
        match opening.strip_suffix('[').map(str::trim_end) {
            Some(marker) if self.kind == CallKind::List && !marker.is_empty() => (marker, "["),
            _ => (opening, ""),
        }
    }

    /// A call of a tool `find` with the argument `text`, as the model writes it.
    #[must_use]
    pub fn example(&self) -> String {
        let arguments = Map::from_iter([("text".to_owned(), Value::from("Moonhook"))]);
        self.written("find", &arguments)
    }

    /// A call as the model writes it.
    pub(crate) fn written(&self, tool: &str, values: &Map<String, Value>) -> String {
        let [comma, colon] = self.json;
        let json = |value: &Value| match (comma, colon) {
            (", ", _) => crate::template::spaced_json(value),
            _ => value.to_string(),
        };
        let (quoted, object) = (Value::from(tool), Value::from(values.clone()));
        let call = match &self.call {
            CallShape::Object { name, arguments } => format!(
                "{{\"{name}\"{colon}{quoted}{comma}\"{arguments}\"{colon}{}}}",
                json(&object)
            ),
            CallShape::Named { middle } => format!("{tool}{middle}{}", json(&object)),
            CallShape::Syntax => {
                let value = |(key, value): (&String, &Value)| format!("{key}={}", json(value));
                let values: Vec<String> = values.iter().map(value).collect();
                format!("{tool}({})", values.join(", "))
            }
        };
        format!("{}{call}{}", self.opening, self.closing)
    }
}

/// Finds the form with a chat template, and whether the template reads arguments as text.
pub(super) fn find(template: &Template, vocabulary: &Vocabulary) -> Option<(CallForm, bool)> {
    [false, true].into_iter().find_map(|as_text| {
        let probe = probe::calls(template, vocabulary, as_text)?;
        Some((recognise(&probe)?, as_text))
    })
}

/// The first form that matches.
fn recognise(probe: &Probe) -> Option<CallForm> {
    let forms = [
        list::recognise,
        json_between_markers::recognise,
        json_to_end::recognise,
        line_per_call::recognise,
        plain_json::recognise,
        name_then_arguments::recognise,
        function_syntax::recognise,
    ];
    forms.into_iter().find_map(|recognise| recognise(probe))
}

#[cfg(test)]
pub(super) mod tests;
