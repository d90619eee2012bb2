//! Limits of intersections: texts that must match several regular expressions at once.
//!
//! The library searches an intersection through every combination of the branches of its expressions, and it cannot be
//! interrupted. Thirty short expressions take gigabytes and hours. So the number of combinations is limited before a
//! grammar is compiled.

use std::collections::BTreeSet;

use serde_json::Value;

use super::ConstraintError;

/// Most combinations of branches. An expression counts as many branches as it has characters, which it cannot exceed.
const MOST_COMBINATIONS: usize = 1_000_000;
/// Branches that a named format (a date, an address) counts: more than any of them has.
const BRANCHES_OF_FORMAT: usize = 50;
/// Keywords whose schemas apply to the same value as the schema beside them.
const MERGING: [&str; 4] = ["allOf", "anyOf", "oneOf", "$ref"];

/// Checks a JSON schema.
///
/// # Errors
/// Expressions that may apply to the same text have too many combinations.
pub(super) fn check_schema(schema: &Value) -> Result<(), ConstraintError> {
    let mut found = Found::default();
    found.search(schema);
    let lengths = found.patterns.iter().map(|pattern| pattern.chars().count().max(2));
    let formats = found.formats.iter().map(|_| BRANCHES_OF_FORMAT);
    let combinations = lengths.chain(formats).fold(1, usize::saturating_mul);
    if !found.merges || combinations <= MOST_COMBINATIONS {
        return Ok(());
    }
    Err(ConstraintError::TooComplex(
        "a text may have to match several of its `pattern` or `format` keywords at once, which is too slow to check; use \
         fewer or shorter patterns, or none beside `allOf`, `anyOf`, `oneOf` and `$ref`"
            .to_owned(),
    ))
}

/// What matters of a schema.
#[derive(Default)]
struct Found<'a> {
    patterns: BTreeSet<&'a str>,
    formats: BTreeSet<&'a str>,
    /// Whether several of them may apply to the same text.
    merges: bool,
}

impl<'a> Found<'a> {
    /// Searches all parts of a schema, also those that are data: a limit may count too much, never too little.
    fn search(&mut self, schema: &'a Value) {
        let mut open = vec![schema];
        while let Some(value) = open.pop() {
            match value {
                Value::Array(items) => open.extend(items),
                Value::Object(fields) => {
                    let text = |key: &str| fields.get(key).and_then(Value::as_str);
                    self.patterns.extend(text("pattern"));
                    self.formats.extend(text("format"));
                    self.merges |= fields.contains_key("allOf")
                        || text("pattern").is_some() && text("format").is_some()
                        || fields.len() > 1 && MERGING.iter().any(|key| fields.contains_key(*key));
                    open.extend(fields.values());
                }
                _ => {}
            }
        }
    }
}

/// Checks a grammar in the Lark language.
///
/// # Errors
/// It has intersections, complements or JSON schemas.
pub(super) fn check_lark(grammar: &str) -> Result<(), ConstraintError> {
    let outside = outside_of_texts(grammar);
    // `~` before a number is a repetition.
    let mut after_tildes = outside.split('~').skip(1).map(str::trim_start);
    let has_complement = after_tildes.any(|rest| !rest.starts_with(|c: char| c.is_ascii_digit()));
    let found = [
        ("&", outside.contains('&'), "write one regular expression instead"),
        ("~", has_complement, "write an expression of what is allowed instead"),
        ("%json", outside.contains("%json"), "use `response_format` for a JSON schema"),
        ("%lark", outside.contains("%lark"), "write its rules into this grammar"),
    ];
    match found.into_iter().find(|(_, is_there, _)| *is_there) {
        None => Ok(()),
        Some((part, _, way_out)) => {
            Err(ConstraintError::Invalid(format!("`{part}` is not supported; {way_out}")))
        }
    }
}

/// A grammar without its texts, regular expressions, control tokens and comments, which are found as the library finds
/// them.
fn outside_of_texts(grammar: &str) -> String {
    let mut outside = String::new();
    let mut chars = grammar.chars().peekable();
    while let Some(c) = chars.next() {
        match c {
            '#' => while chars.next_if(|&c| c != '\n').is_some() {},
            '/' if chars.peek() == Some(&'/') => while chars.next_if(|&c| c != '\n').is_some() {},
            '"' | '/' => {
                while let Some(inner) = chars.next_if(|&inner| inner != c) {
                    if inner == '\\' {
                        chars.next();
                    }
                }
                chars.next();
            }
            '<' => while chars.next_if(|&c| !"<>".contains(c) && !c.is_whitespace()).is_some() {},
            _ => outside.push(c),
        }
    }
    outside
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;

    #[test]
    fn lark_with_intersections_is_refused_wherever_they_hide() {
        for allowed in [
            "start: \"a & b\" | /x&y~/ | <|tool&|> // c & d\n# ~ e",
            "start: X ~ 3..5\nX: \"\\\"&\"",
            "start: /a\n&/ X\nX: /\\/&/",
        ] {
            assert_eq!(check_lark(allowed), Ok(()), "{allowed}");
        }
        for (part, refused) in [
            ("&", "start: X\nX: /a/ & /b/"),
            ("&", "start: X\nX: /a\n/ & /b/"),
            ("&", "start: <a\"b> X <c\"d>\nX: <x/> & /b/"),
            ("~", "start: X\nX: ~/b/"),
            ("%json", "start: %json {\"allOf\": []}"),
            ("%lark", "start: %lark { start: \"a\" }"),
        ] {
            let error = check_lark(refused).expect_err(refused).to_string();
            assert!(error.starts_with(&format!("`{part}` is not supported")), "{refused}: {error}");
        }
    }

    #[test]
    fn patterns_that_may_apply_at_once_are_limited_by_their_combinations() {
        let patterns = |count: usize| -> Vec<Value> {
            (0..count)
                .map(|at| json!({"type": "string", "pattern": format!("^.*a.{{{at}}}b$")}))
                .collect()
        };
        let properties = |count: usize| -> Value {
            patterns(count).into_iter().enumerate().map(|(at, of)| (format!("p{at}"), of)).collect()
        };
        for (allowed, schema) in [
            (true, json!({"properties": properties(500)})),
            (true, json!({"anyOf": patterns(500)})),
            (true, json!({"allOf": patterns(4)})),
            (false, json!({"allOf": patterns(12)})),
            (false, json!({"properties": properties(12), "anyOf": [{"minProperties": 1}]})),
            (true, json!({"pattern": "^a*$", "format": "date"})),
            (false, json!({"pattern": "a".repeat(30_000), "format": "date"})),
            (
                false,
                json!({"$ref": "#/$defs/x", "$defs": {"x": {"pattern": "a".repeat(2000)}}, "pattern": "b".repeat(2000)}),
            ),
        ] {
            assert_eq!(
                check_schema(&schema).is_ok(),
                allowed,
                "{}",
                schema.to_string().chars().take(200).collect::<String>()
            );
        }
    }
}
