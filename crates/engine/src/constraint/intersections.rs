//! Limits of intersections: texts that must match several regular expressions at once.
//!
//! The library searches an intersection through every combination of the branches of its expressions, and it cannot be
//! interrupted. Thirty short expressions take gigabytes and hours. So the number of combinations is limited before a
//! grammar is compiled.

use std::collections::BTreeSet;

use serde_json::{Map, Value};

use super::ConstraintError;

/// Most combinations of branches. An expression counts as many branches as it has characters, which it cannot exceed.
const MOST_COMBINATIONS: usize = 1_000_000;
/// Branches that a named format (a date, an address) counts: more than any of them has.
const BRANCHES_OF_FORMAT: usize = 50;
/// Most parts of a schema that are looked at, again for each place where schemas meet.
const MOST_STEPS: usize = 200_000;
/// Keywords that bring other schemas to the same value.
const COMBINING: [&str; 4] = ["allOf", "anyOf", "oneOf", "$ref"];
/// Keywords that say nothing of the value.
const REMARKS: [&str; 14] = [
    "$anchor",
    "$comment",
    "$defs",
    "$id",
    "$schema",
    "default",
    "definitions",
    "deprecated",
    "description",
    "examples",
    "readOnly",
    "title",
    "writeOnly",
    "x-guidance",
];

/// Checks a JSON schema.
///
/// # Errors
/// Expressions that may apply to the same text have too many combinations.
pub(super) fn check_schema(schema: &Value) -> Result<(), ConstraintError> {
    let mut search = Search { root: schema, steps: 0 };
    if search.below(schema)? <= MOST_COMBINATIONS {
        return Ok(());
    }
    let mut open = vec![schema];
    while let Some(value) = open.pop() {
        search.step()?;
        match value {
            Value::Array(items) => open.extend(items),
            Value::Object(fields) => {
                let combinations = match schemas_of_value(fields) {
                    0 | 1 => alone(fields),
                    _ => search.below(value)?,
                };
                if combinations > MOST_COMBINATIONS {
                    return Err(too_many());
                }
                open.extend(fields.values());
            }
            _ => {}
        }
    }
    Ok(())
}

fn too_many() -> ConstraintError {
    ConstraintError::TooComplex(
        "a text may have to match several of its regular expressions at once (`pattern`, `format`, `patternProperties`), \
         which is too slow to check; use fewer or shorter expressions, or do not combine them with `allOf`, `anyOf`, \
         `oneOf` and `$ref`"
            .to_owned(),
    )
}

/// Number of schemas that apply to the same value because of this one. The library compares alternatives of `oneOf` with
/// each other.
fn schemas_of_value(fields: &Map<String, Value>) -> usize {
    let length = |key: &str| fields.get(key).and_then(Value::as_array).map_or(0, Vec::len);
    let is_own = |key: &String| !COMBINING.contains(&&key[..]) && !REMARKS.contains(&&key[..]);
    usize::from(fields.keys().any(is_own))
        + usize::from(fields.contains_key("$ref"))
        + usize::from(length("anyOf") > 0)
        + length("allOf")
        + length("oneOf")
}

/// Combinations of the expressions of one schema, without those of other values.
fn alone(fields: &Map<String, Value>) -> usize {
    let text = |key: &str| fields.get(key).and_then(Value::as_str);
    let pattern = text("pattern").map_or(1, branches);
    let format = text("format").map_or(1, |_| BRANCHES_OF_FORMAT);
    // The library compares each two expressions of names.
    let names = fields.get("patternProperties").and_then(Value::as_object);
    let mut names: Vec<usize> =
        names.into_iter().flat_map(Map::keys).map(|name| branches(name)).collect();
    names.sort_unstable();
    let names = names.iter().rev().take(2).fold(1, |all: usize, one| all.saturating_mul(*one));
    pattern.saturating_mul(format).max(names)
}

/// The largest number of branches of an expression.
fn branches(expression: &str) -> usize {
    expression.chars().count().max(2)
}

/// A search through a schema with a limited number of steps.
struct Search<'a> {
    root: &'a Value,
    steps: usize,
}

impl<'a> Search<'a> {
    fn step(&mut self) -> Result<(), ConstraintError> {
        self.steps += 1;
        if self.steps > MOST_STEPS { Err(too_many()) } else { Ok(()) }
    }

    /// Combinations of all different expressions of a schema and of those that it refers to.
    fn below(&mut self, schema: &'a Value) -> Result<usize, ConstraintError> {
        let (mut patterns, mut formats) = (BTreeSet::new(), BTreeSet::new());
        let (mut references, mut open) = (BTreeSet::new(), vec![schema]);
        while let Some(value) = open.pop() {
            self.step()?;
            match value {
                Value::Array(items) => open.extend(items),
                Value::Object(fields) => {
                    let text = |key: &str| fields.get(key).and_then(Value::as_str);
                    patterns.extend(text("pattern"));
                    formats.extend(text("format"));
                    let names = fields.get("patternProperties").and_then(Value::as_object);
                    patterns.extend(names.into_iter().flat_map(Map::keys).map(String::as_str));
                    let reference = text("$ref").filter(|reference| references.insert(*reference));
                    open.extend(reference.map(|reference| self.target(reference)));
                    open.extend(fields.values());
                }
                _ => {}
            }
        }
        let patterns = patterns.into_iter().map(branches);
        let formats = formats.into_iter().map(|_: &str| BRANCHES_OF_FORMAT);
        Ok(patterns.chain(formats).fold(1, usize::saturating_mul))
    }

    /// What a reference refers to; the whole schema if that is not clear, so that too much is counted and never too little.
    fn target(&self, reference: &str) -> &'a Value {
        let found = reference.strip_prefix('#').and_then(|path| self.root.pointer(path));
        found.unwrap_or(self.root)
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
        let optional = |format: &str| {
            let schema = json!({"anyOf": [{"type": "string", "format": format}, {"type": "null"}]});
            (format.to_owned(), schema)
        };
        let optional: Value =
            ["date", "time", "date-time", "duration", "uuid"].map(optional).into_iter().collect();
        let [a, b] = ["a", "b"].map(|text| text.repeat(2000));
        let deep = json!({
            "allOf": [{"$ref": "#/$defs/a"}, {"$ref": "#/$defs/b"}],
            "$defs": {
                "a": {"properties": {"x": {"$ref": "#/$defs/c"}}},
                "b": {"properties": {"x": {"pattern": "^x"}}},
                "c": {"anyOf": patterns(12)},
            },
        });
        for (allowed, schema) in [
            (true, json!({"properties": properties(500)})),
            (true, json!({"anyOf": patterns(500)})),
            (true, json!({"allOf": patterns(4)})),
            (false, json!({"allOf": patterns(12)})),
            (false, json!({"oneOf": patterns(12)})),
            // Optional values and references as libraries write them: nothing meets.
            (
                true,
                json!({"$ref": "#/$defs/a", "title": "A", "$defs": {"a": {"properties": optional}}}),
            ),
            (true, json!({"allOf": [{"properties": properties(12)}], "description": "alone"})),
            // Values of the same name meet.
            (false, json!({"properties": properties(12), "anyOf": [{"minProperties": 1}]})),
            (false, deep),
            (true, json!({"pattern": "^a*$", "format": "date"})),
            (false, json!({"pattern": a.repeat(15), "format": "date"})),
            (false, json!({"$ref": "#/$defs/x", "$defs": {"x": {"pattern": a}}, "pattern": b})),
            (
                false,
                json!({"$ref": "#x", "$defs": {"x": {"$anchor": "x", "pattern": a}}, "pattern": b}),
            ),
            (false, json!({"patternProperties": {&a: true, &b: true}})),
            (true, json!({"patternProperties": {&a: true, "b": true, "c": true}})),
        ] {
            let shown: String = schema.to_string().chars().take(200).collect();
            assert_eq!(check_schema(&schema).is_ok(), allowed, "{shown}");
        }
    }

    #[test]
    fn the_search_itself_has_a_limit() {
        let place = |at: usize| json!({"allOf": [{"$ref": "#/$defs/places"}, {"minLength": at}]});
        let places: Vec<Value> = (0..2000).map(place).collect();
        let patterns: Vec<Value> = (0..30).map(|at| json!({"pattern": format!("^{at}")})).collect();
        let schema =
            json!({"$defs": {"places": {"anyOf": places}, "patterns": {"anyOf": patterns}}});
        let mut search = Search { root: &schema, steps: 0 };
        assert!(search.below(&schema["$defs"]["places"]).is_ok_and(|found| found == 1));
        assert!(check_schema(&schema).is_err(), "each of 2,000 places leads to all of them");
    }
}
