//! Grammars: of constraints that callers send, and of tool calls.

use deft_protocol::engine::Constraint;
use llguidance::api::TopLevelGrammar;
use llguidance::{Matcher, ParserFactory};
use serde_json::{Map, Value, json};

use super::ConstraintError;
use crate::output::{CallForm, CallShape};
use crate::tokenizer::{TokenKind, Vocabulary};

/// White space that JSON may have between its parts, limited so that an answer cannot consist of it.
const SPACE: &str = r"[\x20\x0A\x0D\x09]{0,32}";

/// A grammar before it is compiled.
#[derive(Debug, Clone, PartialEq)]
pub(crate) enum Grammar {
    /// JSON that matches a schema.
    Schema(Value),
    /// Text that matches a regular expression.
    Regex(String),
    /// Text of a grammar in the Lark language.
    Lark(String),
}

impl Grammar {
    /// The grammar of a caller's constraint.
    pub(crate) fn of(constraint: &Constraint) -> Self {
        match constraint {
            Constraint::Object => Self::Schema(flexible(json!({"type": "object"}))),
            Constraint::Schema(schema) => Self::Schema(flexible(schema.clone())),
            Constraint::Regex(expression) => Self::Regex(expression.clone()),
            Constraint::Lark(grammar) => Self::Lark(grammar.clone()),
        }
    }

    /// Approximate length in bytes.
    pub(super) fn bytes(&self) -> usize {
        match self {
            Self::Schema(schema) => schema.to_string().len(),
            Self::Regex(text) | Self::Lark(text) => text.len(),
        }
    }

    /// Deepest nesting.
    pub(super) fn depth(&self) -> usize {
        match self {
            Self::Schema(schema) => depth_of(schema),
            // Brackets in texts count too, and inner schemas are nested as they are written.
            Self::Regex(text) | Self::Lark(text) => {
                let mut open = 0_usize;
                let depth = text.chars().map(|c| {
                    match c {
                        '(' | '[' | '{' => open += 1,
                        ')' | ']' | '}' => open = open.saturating_sub(1),
                        _ => {}
                    }
                    open
                });
                depth.max().unwrap_or(0)
            }
        }
    }

    /// Compiles the grammar.
    pub(super) fn compile(&self, factory: &ParserFactory) -> Result<Matcher, ConstraintError> {
        let grammar = match self {
            Self::Schema(schema) => TopLevelGrammar::from_json_schema(schema.clone()),
            Self::Regex(expression) => TopLevelGrammar::from_regex(expression),
            Self::Lark(text) => TopLevelGrammar::from_lark(text.clone()),
        };
        let mut matcher = Matcher::new(factory.create_parser(grammar));
        match matcher.get_error() {
            None => Ok(matcher.into_cancellable()),
            Some(error) => {
                let _ = matcher.reset();
                Err(in_words(&error))
            }
        }
    }
}

/// Nesting of a JSON value, without recursion.
fn depth_of(value: &Value) -> usize {
    let (mut level, mut depth) = (vec![value], 0);
    while !level.is_empty() {
        depth += 1;
        let mut next: Vec<&Value> = Vec::new();
        for value in level {
            match value {
                Value::Array(items) => next.extend(items),
                Value::Object(fields) => next.extend(fields.values()),
                _ => {}
            }
        }
        level = next;
    }
    depth
}

/// The library's message in one line, without its own advice.
pub(super) fn in_words(error: &str) -> ConstraintError {
    if error.contains("NoExtension") || error.contains("Unsatisfiable") {
        let reason = error.lines().next().unwrap_or_default();
        let reason = reason.strip_prefix("Unsatisfiable schema: ").map(|why| format!(": {why}"));
        let reason = reason.unwrap_or_default();
        return ConstraintError::Invalid(format!("no answer can fulfil it{reason}"));
    }
    let text = error.lines().map(str::trim).filter(|line| !line.is_empty()).collect::<Vec<_>>();
    let text: String = text.join("; ").chars().take(400).collect();
    let too_complex = ["too large", "too many", "too complex", "fuel", "limit"];
    if too_complex.iter().any(|words| text.to_lowercase().contains(words)) {
        return ConstraintError::TooComplex(text);
    }
    ConstraintError::Invalid(text)
}

/// A schema whose JSON may have white space between its parts.
fn flexible(schema: Value) -> Value {
    with_options(schema, json!({"whitespace_pattern": SPACE}))
}

/// A schema whose JSON has exactly these separators.
fn separated(schema: Value, [comma, colon]: [&str; 2]) -> Value {
    with_options(
        schema,
        json!({"whitespace_flexible": false, "item_separator": comma, "key_separator": colon}),
    )
}

fn with_options(schema: Value, options: Value) -> Value {
    match schema {
        Value::Object(mut fields) => {
            fields.insert("x-guidance".to_owned(), options);
            Value::Object(fields)
        }
        // `true` and `false` are schemas too.
        other => json!({"allOf": [other], "x-guidance": options}),
    }
}

/// A tool for the grammar of calls.
#[derive(Debug, Clone, PartialEq)]
pub(crate) struct Tool {
    pub(crate) name: String,
    /// The schema of its arguments.
    pub(crate) arguments: Value,
}

/// The grammar of calls of some tools, with the model's markers. `begins_after` is the part of the first marker that the
/// model has already written.
pub(crate) fn tool_calls(
    form: &CallForm,
    tools: &[Tool],
    several: bool,
    begins_after: &str,
    vocabulary: &Vocabulary,
) -> Grammar {
    let literal = |text: &str| literal(text, vocabulary);
    let opening = form.opening.trim_start();
    let opening = literal(opening.strip_prefix(begins_after).unwrap_or(opening));
    let closing = literal(form.closing.trim_end());
    let (calls, mut rules) = calls(form, tools, &literal);
    let more = match &form.separator {
        Some(separator) if several => format!("({} call)*", literal(separator)),
        _ => String::new(),
    };
    rules.insert(0, format!("start: {opening} call {more} {closing}"));
    rules.insert(1, format!("call: {calls}"));
    Grammar::Lark(rules.join("\n"))
}

/// The rule of a call, and the rules that it uses.
fn calls(
    form: &CallForm,
    tools: &[Tool],
    literal: &dyn Fn(&str) -> String,
) -> (String, Vec<String>) {
    let mut rules = Vec::new();
    let alternatives: Vec<String> = match &form.call {
        CallShape::Object { name, arguments } => {
            let object = |tool: &Tool| {
                let mut properties = Map::new();
                properties.insert(name.clone(), json!({"const": tool.name}));
                properties.insert(arguments.clone(), tool.arguments.clone());
                json!({
                    "type": "object", "properties": properties, "required": [name, arguments],
                    "additionalProperties": false,
                })
            };
            for (at, tool) in tools.iter().enumerate() {
                rules.push(format!("call_{at}: %json {}", separated(object(tool), form.json)));
            }
            (0..tools.len()).map(|at| format!("call_{at}")).collect()
        }
        CallShape::Named { middle } => {
            for (at, tool) in tools.iter().enumerate() {
                let schema = separated(tool.arguments.clone(), form.json);
                rules.push(format!("arguments_{at}: %json {schema}"));
            }
            let call = |(at, tool): (usize, &Tool)| {
                format!("{} {} arguments_{at}", literal(&tool.name), literal(middle))
            };
            tools.iter().enumerate().map(call).collect()
        }
        CallShape::Syntax => {
            for (at, tool) in tools.iter().enumerate() {
                rules.extend(named_arguments(at, &tool.arguments, form.json));
            }
            let call = |(at, tool): (usize, &Tool)| {
                format!("{} no_{at}_0 {}", literal(&format!("{}(", tool.name)), literal(")"))
            };
            tools.iter().enumerate().map(call).collect()
        }
    };
    (alternatives.join(" | "), rules)
}

/// Rules of named arguments in the order of the schema: `no_T_I` for the arguments of tool `T` from number `I` on if none
/// was written before, `and_T_I` if one was.
fn named_arguments(tool: usize, schema: &Value, json: [&str; 2]) -> Vec<String> {
    let empty = Map::new();
    let properties = schema["properties"].as_object().unwrap_or(&empty);
    let required: Vec<&str> =
        schema["required"].as_array().into_iter().flatten().filter_map(Value::as_str).collect();
    let definitions = ["$defs", "definitions"].map(|key| (key, schema.get(key)));
    let mut rules = Vec::new();
    for (at, (name, schema)) in properties.iter().enumerate() {
        let mut schema = separated(schema.clone(), json);
        for (key, definition) in definitions {
            if let (Some(definition), Value::Object(fields)) = (definition, &mut schema) {
                fields.entry(key).or_insert(definition.clone());
            }
        }
        rules.push(format!("value_{tool}_{at}: %json {schema}"));
        let key = Value::from(format!("{name}=")).to_string();
        let next = at + 1;
        let skips = |rule: &str| match required.contains(&name.as_str()) {
            true => String::new(),
            false => format!(" | {rule}_{tool}_{next}"),
        };
        rules.push(format!(
            "no_{tool}_{at}: {key} value_{tool}_{at} and_{tool}_{next}{}",
            skips("no")
        ));
        rules.push(format!(
            "and_{tool}_{at}: \", \" {key} value_{tool}_{at} and_{tool}_{next}{}",
            skips("and")
        ));
    }
    let end = properties.len();
    rules.push(format!("no_{tool}_{end}: \"\""));
    rules.push(format!("and_{tool}_{end}: \"\""));
    rules
}

/// A text as terms of a grammar: control tokens by their ids, and the text between them.
fn literal(text: &str, vocabulary: &Vocabulary) -> String {
    let mut terms = Vec::new();
    let mut rest = text;
    while !rest.is_empty() {
        let control = vocabulary
            .iter()
            .filter(|(_, token, kind)| *kind == TokenKind::Control && !token.is_empty())
            .filter_map(|(id, token, _)| Some((rest.find(token)?, token.len(), id)))
            .min_by_key(|(at, length, _)| (*at, usize::MAX - length));
        let (before, id, after) = match control {
            Some((at, length, id)) => (&rest[..at], Some(id), &rest[at + length..]),
            None => (rest, None, ""),
        };
        if !before.is_empty() {
            terms.push(Value::from(before).to_string());
        }
        terms.extend(id.map(|id| format!("<[{id}]>")));
        rest = after;
    }
    terms.join(" ")
}
