//! Sizes of grammars that the library compiles in about a second and within its stack.
//!
//! The limits were measured: the time grows with the square of the number of properties and of the length of a regular
//! expression, and the stack with every nested part and every reference.

use deft_protocol::engine::MAX_SCHEMA;
use serde_json::{Map, Value};

use super::{ConstraintError, intersections};

/// Longest grammar of a caller.
const MAX_LARK_BYTES: usize = 64 << 10;
/// Longest regular expression.
const MAX_REGEX_BYTES: usize = 16 << 10;
/// Longest grammar of the calls of all tools, and longest schemas of all tools together.
const MAX_CALLS_BYTES: usize = 256 << 10;
/// Deepest nesting of a schema, expression or grammar.
const MOST_DEPTH: usize = 64;
/// Most properties of an object.
const MOST_PROPERTIES: usize = 1000;
/// Most comparisons of a pattern of property names with another pattern or a name. Each takes up to a millisecond.
const MOST_NAME_PAIRS: usize = 2000;

/// Checks a JSON schema.
///
/// # Errors
/// It is too long, too deep or has too many properties, or see [`intersections::check_schema`].
pub(super) fn check_schema(schema: &Value) -> Result<(), ConstraintError> {
    check_bytes(schema.to_string().len(), MAX_SCHEMA)?;
    let mut level = vec![schema];
    let mut name_pairs = 0;
    for _ in 0..MOST_DEPTH {
        let mut next = Vec::new();
        for value in level {
            match value {
                Value::Array(items) => next.extend(items),
                Value::Object(fields) => {
                    if fields.len() > MOST_PROPERTIES {
                        return Err(too_complex(format!(
                            "one of its objects has {} fields; at most {MOST_PROPERTIES} are allowed",
                            fields.len()
                        )));
                    }
                    fields.keys().try_for_each(|name| check_expression(name))?;
                    name_pairs += pairs_of_names(fields);
                    next.extend(fields.values());
                }
                Value::String(text) => check_expression(text)?,
                _ => {}
            }
        }
        level = next;
    }
    if !level.is_empty() {
        return Err(too_deep());
    }
    if name_pairs > MOST_NAME_PAIRS {
        return Err(too_complex(format!(
            "its `patternProperties` need {name_pairs} comparisons of names; at most {MOST_NAME_PAIRS} are allowed. Use \
             fewer patterns"
        )));
    }
    intersections::check_schema(schema)
}

/// Comparisons of the patterns of property names with one another and with the names.
fn pairs_of_names(fields: &Map<String, Value>) -> usize {
    let count = |key: &str| fields.get(key).and_then(Value::as_object).map_or(0, Map::len);
    let (patterns, names) = (count("patternProperties"), count("properties"));
    patterns * patterns.saturating_sub(1) / 2 + patterns * names
}

/// Checks a regular expression.
///
/// # Errors
/// It is too long or too deep.
pub(super) fn check_regex(expression: &str) -> Result<(), ConstraintError> {
    check_bytes(expression.len(), MAX_REGEX_BYTES)?;
    check_brackets(expression)
}

/// Checks a caller's grammar.
///
/// # Errors
/// It is too long or too deep, or see [`intersections::check_lark`].
pub(super) fn check_lark(grammar: &str) -> Result<(), ConstraintError> {
    check_bytes(grammar.len(), MAX_LARK_BYTES)?;
    check_brackets(grammar)?;
    intersections::check_lark(grammar)
}

/// Checks the length of the schemas of all tools.
///
/// # Errors
/// They are too long.
pub(super) fn check_tools(bytes: usize) -> Result<(), ConstraintError> {
    if bytes <= MAX_CALLS_BYTES {
        return Ok(());
    }
    Err(too_complex(format!(
        "the schemas of all tools have {bytes} bytes; at most {MAX_CALLS_BYTES} are allowed. A model that writes arguments \
         one by one needs the definitions of a schema for each of them. Send fewer or shorter tools"
    )))
}

/// Checks a text of a schema, which may be a regular expression.
fn check_expression(text: &str) -> Result<(), ConstraintError> {
    if text.len() <= MAX_REGEX_BYTES {
        return Ok(());
    }
    Err(too_complex(format!(
        "one of its texts has {} bytes; at most {MAX_REGEX_BYTES} are allowed",
        text.len()
    )))
}

/// Checks the grammar of calls, whose schemas were checked before.
///
/// # Errors
/// It is too long or too deep.
pub(super) fn check_calls(grammar: &str) -> Result<(), ConstraintError> {
    check_bytes(grammar.len(), MAX_CALLS_BYTES)?;
    check_brackets(grammar)
}

fn check_bytes(bytes: usize, most: usize) -> Result<(), ConstraintError> {
    if bytes <= most {
        return Ok(());
    }
    Err(too_complex(format!("it has {bytes} bytes; at most {most} are allowed")))
}

/// Checks the nesting of brackets. Those in texts count too, and schemas in a grammar are nested as they are written.
fn check_brackets(text: &str) -> Result<(), ConstraintError> {
    let mut open = 0_usize;
    for c in text.chars() {
        match c {
            '(' | '[' | '{' => open += 1,
            ')' | ']' | '}' => open = open.saturating_sub(1),
            _ => {}
        }
        if open > MOST_DEPTH {
            return Err(too_deep());
        }
    }
    Ok(())
}

fn too_deep() -> ConstraintError {
    too_complex(format!("it is nested more than {MOST_DEPTH} levels deep"))
}

fn too_complex(detail: String) -> ConstraintError {
    ConstraintError::TooComplex(detail)
}
