//! Reads JSON character by character, so that the arguments of a call are passed on while they are generated.

use serde_json::Value;

/// The state of a scan after a character.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Scan {
    /// The character belongs to the value, which continues.
    More,
    /// The character was the last one of the value.
    Done,
    /// The value ended before this character.
    Ended,
    /// The character cannot follow.
    Failed,
}

/// Deepest nesting of a value.
const MAX_DEPTH: usize = 128;

/// The end of one JSON value. Only the nesting and the strings are followed; whether the value is valid is checked when it
/// is complete.
#[derive(Debug, Clone, Default)]
pub(super) struct ValueScan {
    open: Vec<char>,
    in_string: bool,
    is_escaped: bool,
    has_begun: bool,
    is_scalar: bool,
}

impl ValueScan {
    /// Whether the value has begun.
    pub(super) fn has_begun(&self) -> bool {
        self.has_begun
    }

    pub(super) fn push(&mut self, c: char) -> Scan {
        if self.in_string {
            match c {
                _ if self.is_escaped => self.is_escaped = false,
                '\\' => self.is_escaped = true,
                '"' => {
                    self.in_string = false;
                    return self.ends_here();
                }
                _ => {}
            }
            return Scan::More;
        }
        match c {
            '"' if self.is_scalar => Scan::Failed,
            '"' => {
                (self.in_string, self.has_begun) = (true, true);
                Scan::More
            }
            '{' | '[' if !self.is_scalar && self.open.len() < MAX_DEPTH => {
                self.open.push(if c == '{' { '}' } else { ']' });
                self.has_begun = true;
                Scan::More
            }
            '{' | '[' => Scan::Failed,
            '}' | ']' if self.open.is_empty() && self.has_begun => Scan::Ended,
            '}' | ']' => match self.open.pop() {
                Some(expected) if expected == c => self.ends_here(),
                _ => Scan::Failed,
            },
            _ if !self.open.is_empty() => Scan::More,
            c if c.is_whitespace() && !self.has_begun => Scan::More,
            ',' | ':' => {
                if self.has_begun {
                    Scan::Ended
                } else {
                    Scan::Failed
                }
            }
            c if c.is_whitespace() => Scan::Ended,
            c if c.is_ascii_alphanumeric() || "+-.".contains(c) => {
                (self.has_begun, self.is_scalar) = (true, true);
                Scan::More
            }
            _ => Scan::Failed,
        }
    }

    fn ends_here(&self) -> Scan {
        if self.open.is_empty() { Scan::Done } else { Scan::More }
    }
}

/// What a scan of a call finds.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Found {
    /// The name of the tool.
    Name(String),
    /// The next part of its arguments, as JSON text.
    Arguments(String),
}

/// One call as a JSON object with a name and arguments. Other fields are skipped.
#[derive(Debug, Clone)]
pub(super) struct ObjectScan {
    name_key: String,
    arguments_key: String,
    at: At,
    raw: String,
    value: ValueScan,
    has_name: bool,
    has_arguments: bool,
    /// Arguments that precede the name.
    held: String,
}

/// The part of the object that comes next.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum At {
    Opening,
    Key,
    Colon,
    Name,
    Arguments,
    Other,
    Comma,
}

impl ObjectScan {
    pub(super) fn new(name_key: &str, arguments_key: &str) -> Self {
        Self {
            name_key: name_key.to_owned(),
            arguments_key: arguments_key.to_owned(),
            at: At::Opening,
            raw: String::new(),
            value: ValueScan::default(),
            has_name: false,
            has_arguments: false,
            held: String::new(),
        }
    }

    /// Adds a character; what it completes is added to `found`.
    pub(super) fn push(&mut self, c: char, found: &mut Vec<Found>) -> Scan {
        match self.at {
            At::Opening if c.is_whitespace() => Scan::More,
            At::Opening if c == '{' => self.next(At::Key),
            At::Key if self.raw.is_empty() && c.is_whitespace() => Scan::More,
            At::Key if self.raw.is_empty() && c == '}' => self.end(found),
            At::Key if self.raw.is_empty() && c != '"' => Scan::Failed,
            At::Key => self.push_key(c),
            At::Colon if c.is_whitespace() => Scan::More,
            At::Colon if c == ':' => self.value_of_key(),
            At::Comma if c.is_whitespace() => Scan::More,
            At::Comma if c == ',' => self.next(At::Key),
            At::Comma if c == '}' => self.end(found),
            At::Opening | At::Colon | At::Comma => Scan::Failed,
            At::Name | At::Arguments | At::Other => self.push_value(c, found),
        }
    }

    fn next(&mut self, at: At) -> Scan {
        self.at = at;
        self.raw.clear();
        self.value = ValueScan::default();
        Scan::More
    }

    fn push_key(&mut self, c: char) -> Scan {
        self.raw.push(c);
        match self.value.push(c) {
            Scan::Done => self.at = At::Colon,
            Scan::More => {}
            Scan::Ended | Scan::Failed => return Scan::Failed,
        }
        Scan::More
    }

    fn value_of_key(&mut self) -> Scan {
        let key = serde_json::from_str(&self.raw).unwrap_or_default();
        let key: String = key;
        let is_name = key == self.name_key || key == "name";
        let is_arguments = key == self.arguments_key || key == "arguments" || key == "parameters";
        self.next(match () {
            () if is_name && !self.has_name => At::Name,
            () if is_arguments && !self.has_arguments => At::Arguments,
            () => At::Other,
        })
    }

    fn push_value(&mut self, c: char, found: &mut Vec<Found>) -> Scan {
        let scan = self.value.push(c);
        if matches!(scan, Scan::More | Scan::Done) && (!c.is_whitespace() || !self.raw.is_empty()) {
            self.raw.push(c);
            self.pass_on(c, found);
        }
        match scan {
            Scan::More => Scan::More,
            Scan::Done => {
                if !self.value_is_complete(found) {
                    return Scan::Failed;
                }
                self.next(At::Comma)
            }
            Scan::Ended => {
                if !self.value_is_complete(found) {
                    return Scan::Failed;
                }
                self.next(At::Comma);
                self.push(c, found)
            }
            Scan::Failed => Scan::Failed,
        }
    }

    /// Passes on a character of the arguments, unless they are a text with JSON in it.
    fn pass_on(&mut self, c: char, found: &mut Vec<Found>) {
        if self.at != At::Arguments || self.raw.starts_with('"') {
            return;
        }
        match found.last_mut() {
            _ if !self.has_name => self.held.push(c),
            Some(Found::Arguments(text)) => text.push(c),
            _ => found.push(Found::Arguments(c.to_string())),
        }
    }

    /// Whether the complete value is valid.
    fn value_is_complete(&mut self, found: &mut Vec<Found>) -> bool {
        match self.at {
            At::Name => {
                let Ok(name) = serde_json::from_str(&self.raw) else { return false };
                self.has_name = true;
                found.push(Found::Name(name));
                if !self.held.is_empty() {
                    found.push(Found::Arguments(std::mem::take(&mut self.held)));
                }
                true
            }
            At::Arguments => {
                self.has_arguments = true;
                let Ok(value) = serde_json::from_str::<Value>(&self.raw) else { return false };
                if let Value::String(text) = value {
                    if self.has_name {
                        found.push(Found::Arguments(text));
                    } else {
                        self.held = text;
                    }
                }
                true
            }
            _ => serde_json::from_str::<Value>(&self.raw).is_ok(),
        }
    }

    fn end(&mut self, found: &mut Vec<Found>) -> Scan {
        if !self.has_name {
            return Scan::Failed;
        }
        if !self.has_arguments {
            found.push(Found::Arguments("{}".to_owned()));
        }
        Scan::Done
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn scan(text: &str) -> (Scan, String, String, usize) {
        let mut scan = ObjectScan::new("name", "arguments");
        let (mut found, mut state, mut read) = (Vec::new(), Scan::More, 0);
        for c in text.chars() {
            state = scan.push(c, &mut found);
            read += 1;
            if state != Scan::More {
                break;
            }
        }
        let (mut name, mut arguments) = (String::new(), String::new());
        for part in found {
            match part {
                Found::Name(text) => name.push_str(&text),
                Found::Arguments(text) => arguments.push_str(&text),
            }
        }
        (state, name, arguments, read)
    }

    #[test]
    fn name_and_arguments_are_read_in_any_order_and_other_fields_are_skipped() {
        for text in [
            r#"{"name": "stock_level", "arguments": {"variety": "Moonhook \"}bean"}}"#,
            r#"{ "arguments" :{"variety": "Moonhook \"}bean"}, "id": [1, {"a": 2}], "name":"stock_level"}"#,
            r#"{"type": "function", "n": -1.5e3, "name": "stock_level", "parameters": {"variety": "Moonhook \"}bean"}}"#,
        ] {
            let (state, name, arguments, read) = scan(&format!("{text} tail"));
            assert_eq!((state, &name[..], read), (Scan::Done, "stock_level", text.chars().count()));
            assert_eq!(arguments, r#"{"variety": "Moonhook \"}bean"}"#, "{text}");
        }
    }

    #[test]
    fn arguments_may_be_text_or_missing() {
        let (_, _, arguments, _) = scan(r#"{"name": "f", "arguments": "{\"a\": 1}"}"#);
        assert_eq!(arguments, r#"{"a": 1}"#);
        assert_eq!(scan(r#"{"name": "f"}"#).2, "{}");
    }

    #[test]
    fn what_is_no_call_fails_at_the_first_wrong_character() {
        for text in [
            "{]",
            "[1]",
            "{\"name\" 1}",
            "{\"arguments\": {}}",
            "{\"name\": \"f\", \"x\": tru}",
            "{\"name\": 5",
        ] {
            let state = scan(text).0;
            let is_incomplete = text.ends_with('5');
            assert_eq!(state == Scan::Failed, !is_incomplete, "{text}: {state:?}");
        }
        let deep = format!("{{\"name\": \"f\", \"arguments\": {}", "[".repeat(200));
        assert_eq!(scan(&deep).0, Scan::Failed);
    }
}
