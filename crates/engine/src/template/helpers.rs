//! Functions and filters that published templates expect.

use minijinja::value::{Kwargs, Value, ValueKind};
use minijinja::{Environment, Error, ErrorKind, State};
use serde::Serialize;

use super::bounds::{self, BoundedBytes};

pub(super) fn add_to(environment: &mut Environment<'_>) {
    environment.set_unknown_method_callback(bounds::method);
    environment.add_function("raise_exception", |message: String| -> Result<Value, Error> {
        Err(Error::new(ErrorKind::InvalidOperation, message))
    });
    environment.add_function("strftime_now", strftime_now);
    environment.add_filter("tojson", to_json);
    environment.add_filter("wordcount", minijinja_contrib::filters::wordcount);
    // In the original language, everything with a length and elements is a sequence.
    environment.add_test("sequence", |value: Value| {
        matches!(value.kind(), ValueKind::Seq | ValueKind::String | ValueKind::Map)
    });
}

fn strftime_now(format: &str) -> Result<String, Error> {
    let items: Vec<_> = chrono::format::StrftimeItems::new(format).collect();
    if items.contains(&chrono::format::Item::Error) {
        let what = format!("`{format}` is not a date format");
        return Err(Error::new(ErrorKind::InvalidOperation, what));
    }
    Ok(chrono::Local::now().format_with_items(items.iter()).to_string())
}

/// Writes JSON with ", " and ": " as separators, keys in their order, and no HTML escapes.
fn to_json(state: &State<'_, '_>, value: &Value, options: Kwargs) -> Result<Value, Error> {
    let indent: Option<usize> = options.get("indent")?;
    let failed = |error: serde_json::Error| {
        Error::new(ErrorKind::BadSerialization, format!("cannot write JSON: {error}"))
    };
    let mut out = BoundedBytes::new(bounds::left(state));
    match indent {
        Some(width) => {
            let spaces = " ".repeat(width.min(16));
            let formatter = serde_json::ser::PrettyFormatter::with_indent(spaces.as_bytes());
            let mut writer = serde_json::Serializer::with_formatter(&mut out, formatter);
            value.serialize(&mut writer).map_err(failed)?;
        }
        None => {
            let mut writer = serde_json::Serializer::with_formatter(&mut out, Spaced);
            value.serialize(&mut writer).map_err(failed)?;
        }
    }
    Ok(Value::from_safe_string(String::from_utf8_lossy(&out.bytes).into_owned()))
}

/// Writes an object as JSON with ", " and ": " as separators.
pub(crate) fn spaced_json(fields: &impl Serialize) -> String {
    let mut out = Vec::new();
    let mut writer = serde_json::Serializer::with_formatter(&mut out, Spaced);
    // Writing JSON values to memory does not fail.
    let _ = fields.serialize(&mut writer);
    String::from_utf8_lossy(&out).into_owned()
}

struct Spaced;

impl serde_json::ser::Formatter for Spaced {
    fn begin_array_value<W: ?Sized + std::io::Write>(
        &mut self,
        writer: &mut W,
        first: bool,
    ) -> std::io::Result<()> {
        if first { Ok(()) } else { writer.write_all(b", ") }
    }

    fn begin_object_key<W: ?Sized + std::io::Write>(
        &mut self,
        writer: &mut W,
        first: bool,
    ) -> std::io::Result<()> {
        if first { Ok(()) } else { writer.write_all(b", ") }
    }

    fn begin_object_value<W: ?Sized + std::io::Write>(
        &mut self,
        writer: &mut W,
    ) -> std::io::Result<()> {
        writer.write_all(b": ")
    }
}
