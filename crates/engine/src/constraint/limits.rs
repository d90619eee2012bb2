//! Sizes of grammars that the library compiles in about a second and within its stack.
//!
//! The limits were measured: the time grows with the square of the number of properties and of the length of a regular
//! expression, and the stack with every nested part and every reference.

use serde_json::Value;

use super::{ConstraintError, intersections};

/// Longest schema, or grammar of a caller.
const MAX_BYTES: usize = 64 << 10;
/// Longest regular expression.
const MAX_REGEX_BYTES: usize = 16 << 10;
/// Longest grammar of the calls of all tools.
const MAX_CALLS_BYTES: usize = 256 << 10;
/// Deepest nesting of a schema, expression or grammar.
const MOST_DEPTH: usize = 64;
/// Most properties of an object.
const MOST_PROPERTIES: usize = 1000;

/// Checks a JSON schema.
///
/// # Errors
/// It is too long, too deep or has too many properties, or see [`intersections::check_schema`].
pub(super) fn check_schema(schema: &Value) -> Result<(), ConstraintError> {
    check_bytes(schema.to_string().len(), MAX_BYTES)?;
    let mut level = vec![schema];
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
                    next.extend(fields.values());
                }
                // A pattern is a regular expression.
                Value::String(text) => check_bytes(text.len(), MAX_REGEX_BYTES)?,
                _ => {}
            }
        }
        level = next;
    }
    if !level.is_empty() {
        return Err(too_deep());
    }
    intersections::check_schema(schema)
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
    check_bytes(grammar.len(), MAX_BYTES)?;
    check_brackets(grammar)?;
    intersections::check_lark(grammar)
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
