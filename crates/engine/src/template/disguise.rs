//! Carries control tokens in visitors' text through rendering without letting them act.
//!
//! Each such text is replaced by a private-use character, its number, and the character again;
//! afterwards the rendered text is cut there and the original put back as plain text.

use aho_corasick::{AhoCorasick, MatchKind};
use serde_json::{Map, Value};

use super::Rendered;

/// From the last private-use plane; itself disguised where a visitor writes it.
const MARK: char = '\u{10FFFD}';

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
