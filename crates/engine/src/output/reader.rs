//! Divides a model's output into reasoning, text and tool calls while it is generated.
//!
//! Text that may be the beginning of a marker or of a call is held back until that is known. What turns out not to be a
//! call is passed on as text. Only markers, and white space and parts of markers after a call, are left out. However the
//! output is cut into pieces, the events together are the same.

use std::sync::Arc;

use super::calls::scan::CallScan;
use super::json_scan::{Found, Scan};
use super::{CallForm, ReasoningMarkers};

/// A part of the output.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Event {
    /// Text of the answer.
    Text(String),
    /// Text of the reasoning.
    Reasoning(String),
    /// A call begins.
    Call {
        /// Its number in the answer.
        index: u32,
        /// The tool.
        name: String,
    },
    /// The next part of a call's arguments, as JSON text.
    Arguments {
        /// Number of the call.
        index: u32,
        /// The text.
        text: String,
    },
}

/// Where the output is.
#[derive(Debug)]
enum At {
    /// Before all text of the answer: reasoning or a call without a marker may begin.
    Start,
    /// In the reasoning.
    Reasoning,
    /// In the text.
    Text,
    /// In a call.
    Call(Box<Call>),
    /// After a call.
    AfterCall,
}

/// A call that is being read.
#[derive(Debug)]
struct Call {
    scan: CallScan,
    /// Text that must precede it.
    expected: &'static str,
    /// Its text with the marker before it.
    raw: String,
    /// Whether the name was read and is that of a tool.
    is_known: bool,
}

/// Reads the output of one answer.
#[derive(Debug)]
pub(crate) struct Reader {
    markers: Option<ReasoningMarkers>,
    form: Option<Arc<CallForm>>,
    /// Names of the tools of the call.
    tools: Arc<[String]>,
    at: At,
    /// Text that is held back.
    held: String,
    /// Whether white space before the next text is left out: after a marker of the reasoning.
    trims: bool,
    calls: u32,
    /// Where reading a call failed: the text up to there.
    failed: Option<String>,
}

impl Reader {
    /// A reader of an answer. Without `form`, the output has no calls. `is_open` says that the prompt ends with the opening
    /// marker of the reasoning.
    pub(crate) fn new(
        markers: Option<ReasoningMarkers>,
        form: Option<Arc<CallForm>>,
        tools: Arc<[String]>,
        is_open: bool,
    ) -> Self {
        let at = if markers.is_some() && is_open { At::Reasoning } else { At::Start };
        Self {
            markers,
            form,
            tools,
            at,
            held: String::new(),
            trims: is_open,
            calls: 0,
            failed: None,
        }
    }

    /// Whether the output is in its reasoning.
    pub(crate) fn is_reasoning(&self) -> bool {
        matches!(self.at, At::Reasoning)
    }

    /// Whether a marker of a call was read, and the call is not complete.
    pub(crate) fn is_in_call(&self) -> bool {
        matches!(self.at, At::Call(_))
    }

    /// The text of the current call after its marker.
    pub(crate) fn call_text(&self) -> &str {
        match &self.at {
            At::Call(call) => call.raw.get(self.opening().len()..).unwrap_or_default(),
            _ => "",
        }
    }

    /// Number of calls so far.
    pub(crate) fn calls(&self) -> u32 {
        self.calls
    }

    /// The text of the last call that could not be read, up to the place where reading failed.
    pub(crate) fn failed(&self) -> Option<&str> {
        self.failed.as_deref()
    }

    /// Adds the next text of the output.
    pub(crate) fn push(&mut self, text: &str, events: &mut Vec<Event>) {
        self.held.push_str(text);
        while self.step(events) {}
    }

    /// Passes on what was held back, at the end of the output.
    pub(crate) fn finish(&mut self, events: &mut Vec<Event>) {
        let held = std::mem::take(&mut self.held);
        match std::mem::replace(&mut self.at, At::Text) {
            At::Start | At::Text => text(held, events),
            At::Reasoning => reasoning(held, events),
            At::Call(call) if !call.is_known => {
                self.failed = Some(call.raw.clone());
                text(call.raw, events);
            }
            At::Call(_) | At::AfterCall => {}
        }
    }

    /// Reads as much of the held text as possible; returns whether the state has changed.
    fn step(&mut self, events: &mut Vec<Event>) -> bool {
        match &mut self.at {
            At::Start => self.start(),
            At::Reasoning => self.reasoning(events),
            At::Text => self.text(events),
            At::Call(_) => self.call(events),
            At::AfterCall => self.after_call(),
        }
    }

    fn opening(&self) -> &str {
        self.form.as_ref().map_or("", |form| form.marker().0)
    }

    /// Whether calls may begin in the middle of a text, because their marker is no usual punctuation.
    fn has_marker(&self) -> bool {
        self.opening().chars().any(char::is_alphanumeric)
    }

    fn start(&mut self) -> bool {
        let seen = self.held.trim_start();
        if seen.is_empty() {
            return false;
        }
        let (marker, opening) =
            (self.markers.as_ref().map(|markers| &markers.opening[..]), self.opening());
        if let Some(rest) = marker.and_then(|marker| seen.strip_prefix(marker)) {
            self.held = rest.to_owned();
            (self.at, self.trims) = (At::Reasoning, true);
            return true;
        }
        let is_beginning = |marker: &str| marker.starts_with(seen);
        if marker.is_some_and(is_beginning) {
            return false;
        }
        if self.form.is_some() && seen.starts_with(opening) {
            self.begin_call(self.held.len() - seen.len() + opening.len(), true);
            return true;
        }
        if self.form.is_some() && is_beginning(opening) {
            return false;
        }
        if self.trims {
            self.held = seen.to_owned();
        }
        (self.at, self.trims) = (At::Text, false);
        true
    }

    fn reasoning(&mut self, events: &mut Vec<Event>) -> bool {
        let Some(closing) = self.markers.as_ref().map(|markers| markers.closing.clone()) else {
            return false;
        };
        if self.trims {
            self.held = self.held.trim_start().to_owned();
            self.trims = self.held.is_empty();
        }
        if let Some(at) = self.held.find(&closing) {
            let rest = self.held.split_off(at + closing.len());
            self.held.truncate(at);
            reasoning(self.held.trim_end().to_owned(), events);
            self.held = rest;
            (self.at, self.trims) = (At::Start, true);
            return true;
        }
        // White space at the end is held back too, because it may precede the closing marker.
        let keep = self.held.len() - beginning_of(&self.held, &closing).unwrap_or(self.held.len());
        let sent = self.held[..self.held.len() - keep].trim_end().len();
        if sent > 0 {
            let rest = self.held.split_off(sent);
            reasoning(std::mem::replace(&mut self.held, rest), events);
        }
        false
    }

    fn text(&mut self, events: &mut Vec<Event>) -> bool {
        if !self.has_marker() {
            text(std::mem::take(&mut self.held), events);
            return false;
        }
        let opening = self.opening().to_owned();
        if let Some(at) = self.held.find(&opening) {
            let rest = self.held.split_off(at);
            text(std::mem::replace(&mut self.held, rest), events);
            self.begin_call(opening.len(), true);
            return true;
        }
        let sent = beginning_of(&self.held, &opening).unwrap_or(self.held.len());
        let rest = self.held.split_off(sent);
        text(std::mem::replace(&mut self.held, rest), events);
        false
    }

    /// Begins a call after the first `marker` bytes of the held text: the first one of a list, or another one.
    fn begin_call(&mut self, marker: usize, is_first: bool) {
        let Some(form) = &self.form else { return };
        let rest = self.held.split_off(marker);
        let raw = std::mem::replace(&mut self.held, rest);
        let expected = if is_first { form.marker().1 } else { "" };
        self.at =
            At::Call(Box::new(Call { scan: CallScan::new(form), expected, raw, is_known: false }));
    }

    fn call(&mut self, events: &mut Vec<Event>) -> bool {
        let At::Call(call) = &mut self.at else { return false };
        let mut found = Vec::new();
        let (mut state, mut read) = (Scan::More, 0);
        for c in self.held.chars() {
            state = match call.expected.chars().next() {
                None => call.scan.push(c, &mut found),
                Some(_) if c.is_whitespace() => Scan::More,
                Some(expected) if c == expected => {
                    call.expected = &call.expected[c.len_utf8()..];
                    Scan::More
                }
                Some(_) => Scan::Failed,
            };
            for part in found.drain(..) {
                match part {
                    Found::Name(name) if self.tools.contains(&name) => {
                        call.is_known = true;
                        events.push(Event::Call { index: self.calls, name });
                        self.calls += 1;
                    }
                    Found::Name(_) => state = Scan::Failed,
                    Found::Arguments(text) if call.is_known => {
                        arguments(self.calls - 1, text, events);
                    }
                    Found::Arguments(_) => {}
                }
            }
            if state == Scan::Ended || state == Scan::Failed && call.is_known {
                break;
            }
            call.raw.push(c);
            read += c.len_utf8();
            if state != Scan::More {
                break;
            }
        }
        self.held.drain(..read);
        match state {
            Scan::More => return false,
            Scan::Done | Scan::Ended => self.at = At::AfterCall,
            Scan::Failed => {
                let raw = std::mem::take(&mut call.raw);
                if !call.is_known {
                    text(raw.clone(), events);
                }
                self.failed = Some(raw);
                self.at = At::Text;
            }
        }
        true
    }

    /// Skips the text after a call; another call may follow.
    fn after_call(&mut self) -> bool {
        let Some(form) = self.form.clone() else { return false };
        let seen = self.held.trim_start().to_owned();
        if seen.is_empty() {
            return false;
        }
        let (closing, opening) = (form.closing.trim(), form.marker().0);
        let separator = form.separator.as_deref().map(str::trim);
        let is_next = match separator {
            Some("") => seen.starts_with('{'),
            Some(separator) => seen.starts_with(separator),
            None => false,
        };
        if is_next {
            self.held = seen;
            self.begin_call(separator.map_or(0, str::len), false);
            return true;
        }
        // A separator with a closing marker, white space and an opening marker may have other white space.
        if !closing.is_empty() && seen.starts_with(closing) {
            self.held = seen[closing.len()..].to_owned();
            return true;
        }
        if self.has_marker() && seen.starts_with(opening) {
            self.held = seen;
            self.begin_call(opening.len(), true);
            return true;
        }
        let may_follow = [closing, opening, separator.unwrap_or_default()];
        if may_follow.iter().any(|marker| !marker.is_empty() && marker.starts_with(&seen)) {
            return false;
        }
        self.held = seen;
        self.at = At::Text;
        true
    }
}

/// Offset of the end of `text` that may be the beginning of a marker.
fn beginning_of(text: &str, marker: &str) -> Option<usize> {
    let most = text.len().min(marker.len().saturating_sub(1));
    let is_beginning = |at: &usize| text.is_char_boundary(*at) && marker.starts_with(&text[*at..]);
    (text.len() - most..text.len()).find(is_beginning)
}

fn text(text: String, events: &mut Vec<Event>) {
    match events.last_mut() {
        _ if text.is_empty() => {}
        Some(Event::Text(before)) => before.push_str(&text),
        _ => events.push(Event::Text(text)),
    }
}

fn arguments(index: u32, text: String, events: &mut Vec<Event>) {
    match events.last_mut() {
        Some(Event::Arguments { text: before, index: of }) if *of == index => {
            before.push_str(&text)
        }
        _ => events.push(Event::Arguments { index, text }),
    }
}

fn reasoning(text: String, events: &mut Vec<Event>) {
    match events.last_mut() {
        _ if text.is_empty() => {}
        Some(Event::Reasoning(before)) => before.push_str(&text),
        _ => events.push(Event::Reasoning(text)),
    }
}

#[cfg(test)]
mod tests;
