//! Reads one call of any form, character by character.

use serde_json::{Map, Value};

use super::super::json_scan::{Found, ObjectScan, Scan, ValueScan};
use super::{CallForm, CallShape};

/// Longest name of a tool.
const MAX_NAME: usize = 128;
/// Deepest nesting of a value in function-call syntax.
const MAX_DEPTH: usize = 64;

/// The scan of one call.
#[derive(Debug, Clone)]
pub(in crate::output) enum CallScan {
    Object(ObjectScan),
    Named { middle: String, name: String, arguments: Option<ValueScan> },
    Syntax { text: String, open: Vec<char>, quote: Option<char>, is_escaped: bool },
}

impl CallScan {
    pub(in crate::output) fn new(form: &CallForm) -> Self {
        match &form.call {
            CallShape::Object { name, arguments } => Self::Object(ObjectScan::new(name, arguments)),
            CallShape::Named { middle } => Self::Named {
                middle: middle.trim().to_owned(),
                name: String::new(),
                arguments: None,
            },
            CallShape::Syntax => Self::Syntax {
                text: String::new(),
                open: Vec::new(),
                quote: None,
                is_escaped: false,
            },
        }
    }

    /// Adds a character; what it completes is added to `found`.
    pub(in crate::output) fn push(&mut self, c: char, found: &mut Vec<Found>) -> Scan {
        match self {
            Self::Object(scan) => scan.push(c, found),
            Self::Named { middle, name, arguments } => match arguments {
                None => {
                    let (scan, opens) = push_name(middle, name, c, found);
                    if opens {
                        *arguments = Some(ValueScan::default());
                    }
                    // Without a marker, the arguments begin with this character.
                    if opens && middle.is_empty() && c == '{' { self.push(c, found) } else { scan }
                }
                Some(_) if c.is_whitespace() && !has_arguments(found, arguments.as_ref()) => {
                    Scan::More
                }
                Some(scan) => push_arguments(scan, c, found),
            },
            Self::Syntax { text, .. } if text.is_empty() && c.is_whitespace() => Scan::More,
            Self::Syntax { text, open, quote, is_escaped } => {
                text.push(c);
                let ends = follow(c, open, quote, is_escaped);
                let has_name = text.contains('(');
                let is_name = |c: char| c.is_alphanumeric() || "_-.".contains(c);
                match ends {
                    None => Scan::Failed,
                    Some(true) => match parse_call(text) {
                        Some((name, arguments)) => {
                            found.push(Found::Name(name));
                            found.push(Found::Arguments(spaced(&arguments)));
                            Scan::Done
                        }
                        None => Scan::Failed,
                    },
                    Some(false) if !has_name && !is_name(c) => Scan::Failed,
                    Some(false) if !has_name && text.len() > MAX_NAME => Scan::Failed,
                    Some(false) => Scan::More,
                }
            }
        }
    }
}

fn has_arguments(found: &[Found], scan: Option<&ValueScan>) -> bool {
    scan.is_some_and(ValueScan::has_begun) || matches!(found.last(), Some(Found::Arguments(_)))
}

/// Adds a character of a name; returns whether the arguments follow.
fn push_name(middle: &str, name: &mut String, c: char, found: &mut Vec<Found>) -> (Scan, bool) {
    if name.is_empty() && c.is_whitespace() {
        return (Scan::More, false);
    }
    let ends_name = middle.is_empty() && (c == '{' || c.is_whitespace());
    if !ends_name {
        name.push(c);
    }
    let end = if middle.is_empty() { ends_name.then_some(name.len()) } else { name.find(middle) };
    if let Some(end) = end {
        let complete = name[..end].trim();
        if complete.is_empty() {
            return (Scan::Failed, false);
        }
        found.push(Found::Name(complete.to_owned()));
        return (Scan::More, true);
    }
    let fails = c == '\n' || name.len() > MAX_NAME;
    (if fails { Scan::Failed } else { Scan::More }, false)
}

fn push_arguments(scan: &mut ValueScan, c: char, found: &mut Vec<Found>) -> Scan {
    if !scan.has_begun() && c != '{' {
        return Scan::Failed;
    }
    let state = scan.push(c);
    if matches!(state, Scan::More | Scan::Done) {
        match found.last_mut() {
            Some(Found::Arguments(text)) => text.push(c),
            _ => found.push(Found::Arguments(c.to_string())),
        }
    }
    state
}

/// Follows brackets and quotes; returns whether the outermost bracket was closed, or none if brackets do not match.
fn follow(
    c: char,
    open: &mut Vec<char>,
    quote: &mut Option<char>,
    is_escaped: &mut bool,
) -> Option<bool> {
    if let Some(end) = *quote {
        match c {
            _ if *is_escaped => *is_escaped = false,
            '\\' => *is_escaped = true,
            _ if c == end => *quote = None,
            _ => {}
        }
        return Some(false);
    }
    match c {
        '"' | '\'' if !open.is_empty() => *quote = Some(c),
        '(' | '[' | '{' if open.len() < MAX_DEPTH => open.push(match c {
            '(' => ')',
            '[' => ']',
            _ => '}',
        }),
        '(' | '[' | '{' => return None,
        ')' | ']' | '}' => {
            if open.pop() != Some(c) {
                return None;
            }
            return Some(open.is_empty());
        }
        _ => {}
    }
    Some(false)
}

/// Name and arguments of `name(key=value, ...)`.
fn parse_call(text: &str) -> Option<(String, Map<String, Value>)> {
    let (name, body) = text.trim().split_once('(')?;
    let mut rest = Literals { rest: body.strip_suffix(')')? };
    let mut arguments = Map::new();
    while !rest.skip_space().is_empty() {
        let (key, value) = rest.rest.split_once('=')?;
        let key = key.trim();
        let is_name = |c: char| c.is_alphanumeric() || c == '_';
        if key.is_empty() || !key.chars().all(is_name) {
            return None;
        }
        rest.rest = value;
        arguments.insert(key.to_owned(), rest.value(0)?);
        if !rest.skip_space().is_empty() && !rest.takes(',') {
            return None;
        }
    }
    Some((name.trim().to_owned(), arguments))
}

/// Literals of the language.
struct Literals<'a> {
    rest: &'a str,
}

impl<'a> Literals<'a> {
    fn skip_space(&mut self) -> &'a str {
        self.rest = self.rest.trim_start();
        self.rest
    }

    fn takes(&mut self, c: char) -> bool {
        self.skip_space();
        let rest = self.rest.strip_prefix(c);
        self.rest = rest.unwrap_or(self.rest);
        rest.is_some()
    }

    fn value(&mut self, depth: usize) -> Option<Value> {
        if depth > MAX_DEPTH {
            return None;
        }
        match self.skip_space().chars().next()? {
            '"' | '\'' => self.text().map(Value::String),
            '[' | '(' => self.list(depth),
            '{' => self.object(depth),
            _ => self.word(),
        }
    }

    fn word(&mut self) -> Option<Value> {
        let is_part = |c: char| c.is_alphanumeric() || "+-._".contains(c);
        let end = self.rest.find(|c| !is_part(c)).unwrap_or(self.rest.len());
        let (word, rest) = self.rest.split_at(end);
        self.rest = rest;
        match word {
            "True" => Some(Value::Bool(true)),
            "False" => Some(Value::Bool(false)),
            "None" => Some(Value::Null),
            _ => serde_json::from_str(word).ok(),
        }
    }

    fn text(&mut self) -> Option<String> {
        let mut characters = self.rest.chars();
        let quote = characters.next()?;
        let mut text = String::new();
        loop {
            match characters.next()? {
                '\\' => match characters.next()? {
                    'n' => text.push('\n'),
                    't' => text.push('\t'),
                    'r' => text.push('\r'),
                    'u' => {
                        let digits: String = characters.by_ref().take(4).collect();
                        text.push(char::from_u32(u32::from_str_radix(&digits, 16).ok()?)?);
                    }
                    other => text.push(other),
                },
                c if c == quote => break,
                c => text.push(c),
            }
        }
        self.rest = characters.as_str();
        Some(text)
    }

    fn list(&mut self, depth: usize) -> Option<Value> {
        let end = if self.takes('[') { ']' } else { self.takes('(').then_some(')')? };
        let mut items = Vec::new();
        while !self.takes(end) {
            items.push(self.value(depth + 1)?);
            if !self.takes(',') && !self.skip_space().starts_with(end) {
                return None;
            }
        }
        Some(Value::Array(items))
    }

    fn object(&mut self, depth: usize) -> Option<Value> {
        self.takes('{');
        let mut fields = Map::new();
        while !self.takes('}') {
            let Value::String(key) = self.value(depth + 1)? else { return None };
            if !self.takes(':') {
                return None;
            }
            fields.insert(key, self.value(depth + 1)?);
            if !self.takes(',') && !self.skip_space().starts_with('}') {
                return None;
            }
        }
        Some(Value::Object(fields))
    }
}

/// JSON with a space after separators.
pub(in crate::output) fn spaced(fields: &Map<String, Value>) -> String {
    crate::template::spaced_json(fields)
}
