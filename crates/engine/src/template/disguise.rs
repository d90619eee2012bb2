//! Hides the texts of control tokens in users' messages from rendering, so that they stay text.
//!
//! Each of these texts is replaced by a private-use character, a number, and the same character. After rendering, the output
//! is divided there and the original is restored as plain text.

use aho_corasick::{AhoCorasick, MatchKind};
use serde_json::{Map, Value};

use super::Rendered;

/// A character of the last private-use plane. It is hidden too if a message contains it.
const MARK: char = '\u{10FFFD}';

#[derive(Clone)]
pub(super) struct Disguise {
    finder: Option<AhoCorasick>,
    texts: Vec<String>,
}

impl Disguise {
    pub(super) fn new<'t>(control: impl Iterator<Item = &'t str>) -> Self {
        let mut texts: Vec<String> =
            control.filter(|text| !text.is_empty()).map(str::to_owned).collect();
        texts.push(MARK.to_string());
        let finder =
            AhoCorasick::builder().match_kind(MatchKind::LeftmostLongest).build(&texts).ok();
        Self { finder, texts }
    }

    pub(super) fn put_on(&self, value: &Value) -> Value {
        match value {
            Value::String(text) => Value::String(self.put_on_text(text)),
            Value::Array(items) => {
                Value::Array(items.iter().map(|item| self.put_on(item)).collect())
            }
            Value::Object(map) => Value::Object(self.put_on_object(map)),
            other => other.clone(),
        }
    }

    pub(super) fn put_on_object(&self, map: &Map<String, Value>) -> Map<String, Value> {
        map.iter().map(|(key, value)| (self.put_on_text(key), self.put_on(value))).collect()
    }

    fn put_on_text(&self, text: &str) -> String {
        let Some(finder) = &self.finder else {
            return text.to_owned();
        };
        let mut out = String::with_capacity(text.len());
        let mut from = 0;
        for found in finder.find_iter(text) {
            out.push_str(&text[from..found.start()]);
            out.push_str(&format!("{MARK}{}{MARK}", found.pattern().as_usize()));
            from = found.end();
        }
        out.push_str(&text[from..]);
        out
    }

    pub(super) fn take_off(&self, text: &str) -> Vec<Rendered> {
        let mut pieces = Vec::new();
        for (at, part) in text.split(MARK).enumerate() {
            let original = part.parse().ok().and_then(|number: usize| self.texts.get(number));
            let piece = match (at % 2, original) {
                (1, Some(original)) => Rendered { text: original.clone(), trusted: false },
                _ => Rendered { text: part.to_owned(), trusted: true },
            };
            if !piece.text.is_empty() {
                pieces.push(piece);
            }
        }
        pieces
    }
}
