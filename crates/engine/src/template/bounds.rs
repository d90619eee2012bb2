//! Limits of what a method or filter may build. The size is compared with the remaining steps before anything is built.

use std::fmt::{self, Write as _};
use std::io;

use minijinja::value::{Value, from_args};
use minijinja::{Error, ErrorKind, State};
use minijinja_contrib::pycompat;

/// Bytes that cost one step.
const STEP: usize = 64;
/// Bytes of an element of a list.
const ELEMENT: usize = 64;
/// Largest width of a field of a format.
const MAX_WIDTH: usize = 1000;

/// Number of bytes that the remaining steps allow.
pub(super) fn left(state: &State<'_, '_>) -> usize {
    let steps = state.fuel_levels().map_or(0, |(_, left)| left);
    usize::try_from(steps).unwrap_or(usize::MAX).saturating_mul(STEP).min(super::MAX_OUTPUT)
}

fn too_much(state: &State<'_, '_>) -> Error {
    let what = format!("it needs more than the {} bytes of memory left", left(state));
    Error::new(ErrorKind::OutOfFuel, what)
}

fn pay(state: &State<'_, '_>, bytes: usize) -> Result<(), Error> {
    if bytes > left(state) { Err(too_much(state)) } else { Ok(()) }
}

/// A method of a value that the template language does not define itself.
pub(super) fn method(
    state: &mut State<'_, '_>,
    value: &Value,
    name: &str,
    arguments: &[Value],
) -> Result<Value, Error> {
    if let Some(text) = value.as_str() {
        match name {
            "join" => return join(state, text, arguments),
            "replace" => pay(state, replaced(text, arguments))?,
            "split" | "splitlines" => pay(state, split(text, name, arguments))?,
            "format" => pay(state, formatted(state, text, arguments)?)?,
            _ => {}
        }
    }
    pycompat::unknown_method_callback(state, value, name, arguments)
}

fn text_at(arguments: &[Value], at: usize) -> Option<&str> {
    arguments.get(at).and_then(Value::as_str)
}

fn replaced(text: &str, arguments: &[Value]) -> usize {
    let (Some(old), Some(new)) = (text_at(arguments, 0), text_at(arguments, 1)) else {
        return text.len();
    };
    let grown = text.matches(old).count().saturating_mul(new.len());
    grown.saturating_add(text.len())
}

fn split(text: &str, name: &str, arguments: &[Value]) -> usize {
    let parts = match text_at(arguments, 0) {
        Some(separator) => text.matches(separator).count(),
        None if name == "splitlines" => text.matches('\n').count(),
        None => text.split_whitespace().count(),
    };
    (parts + 1).saturating_mul(ELEMENT).saturating_add(text.len())
}

fn formatted(state: &State<'_, '_>, text: &str, arguments: &[Value]) -> Result<usize, Error> {
    let number = |digits: &str| digits.trim_start_matches('0').len() > 3;
    if text.split(|c: char| !c.is_ascii_digit()).any(number) || text.contains(":{") {
        let what = format!("a format has fields of at most {} characters", MAX_WIDTH - 1);
        return Err(Error::new(ErrorKind::InvalidOperation, what));
    }
    let mut longest = MAX_WIDTH;
    for argument in arguments {
        let mut counted = Bounded::new(state);
        counted.value(argument)?;
        longest = longest.max(counted.text.len());
    }
    Ok(text.matches('{').count().saturating_mul(longest).saturating_add(text.len()))
}

fn join(state: &State<'_, '_>, separator: &str, arguments: &[Value]) -> Result<Value, Error> {
    let (values,): (&Value,) = from_args(arguments)?;
    let mut joined = Bounded::new(state);
    for (at, value) in values.try_iter()?.checked().enumerate() {
        if at > 0 {
            joined.text(separator)?;
        }
        joined.value(&value?)?;
    }
    Ok(Value::from(joined.text))
}

/// Builds text up to the number of bytes that remained at its beginning.
pub(super) struct Bounded<'a, 'b, 'c> {
    state: &'a State<'b, 'c>,
    most: usize,
    pub(super) text: String,
}

impl<'a, 'b, 'c> Bounded<'a, 'b, 'c> {
    pub(super) fn new(state: &'a State<'b, 'c>) -> Self {
        Self { state, most: left(state), text: String::new() }
    }

    fn text(&mut self, text: &str) -> Result<(), Error> {
        self.write_str(text).map_err(|_| too_much(self.state))
    }

    fn value(&mut self, value: &Value) -> Result<(), Error> {
        write!(self, "{value}").map_err(|_| too_much(self.state))
    }
}

impl fmt::Write for Bounded<'_, '_, '_> {
    fn write_str(&mut self, text: &str) -> fmt::Result {
        if self.text.len() + text.len() > self.most {
            return Err(fmt::Error);
        }
        self.text.push_str(text);
        Ok(())
    }
}

/// Writes bytes up to the number that remained at its beginning.
pub(super) struct BoundedBytes {
    most: usize,
    pub(super) bytes: Vec<u8>,
}

impl BoundedBytes {
    pub(super) fn new(most: usize) -> Self {
        Self { most, bytes: Vec::new() }
    }
}

impl io::Write for BoundedBytes {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        if self.bytes.len() + bytes.len() > self.most {
            return Err(io::Error::other(format!("more than {} bytes of output", self.most)));
        }
        self.bytes.extend_from_slice(bytes);
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}
