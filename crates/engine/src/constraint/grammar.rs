//! Grammars: of constraints that callers send, and of tool calls.

use std::cmp::Reverse;
use std::collections::BTreeMap;
use std::fmt;

use deft_protocol::engine::Constraint;
use llguidance::api::TopLevelGrammar;
use llguidance::{Matcher, ParserFactory, regex_to_lark};
use serde_json::{Map, Value, json};

use super::{ConstraintError, limits};
use crate::output::{CallForm, CallShape};

/// White space that JSON may have between its parts, limited so that an answer cannot consist of it.
const SPACE: &str = r"[\x20\x0A\x0D\x09]{0,32}";

/// A grammar before it is compiled.
#[derive(Debug, Clone, PartialEq)]
pub(crate) enum Grammar {
    /// JSON that matches a schema.
    Schema(Value),
    /// Text that matches a regular expression.
    Regex(String),
    /// Text of a caller's grammar in the Lark language.
    Lark(String),
    /// The same language; written by [`Calls::grammar`].
    Calls(String),
}

impl fmt::Display for Grammar {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Schema(schema) => write!(f, "JSON schema\n{schema}"),
            Self::Regex(expression) => write!(f, "regular expression\n{expression}"),
            Self::Lark(text) | Self::Calls(text) => write!(f, "Lark grammar\n{text}"),
        }
    }
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

    /// Checks its size before it is compiled.
    ///
    /// # Errors
    /// See [`limits`].
    pub(crate) fn check(&self) -> Result<(), ConstraintError> {
        match self {
            Self::Schema(schema) => limits::check_schema(schema),
            Self::Regex(expression) => limits::check_regex(expression),
            Self::Lark(text) => limits::check_lark(text),
            Self::Calls(text) => limits::check_calls(text),
        }
    }

    /// Compiles the grammar.
    pub(super) fn compile(&self, factory: &ParserFactory) -> Result<Matcher, ConstraintError> {
        let grammar = match self {
            Self::Schema(schema) => TopLevelGrammar::from_json_schema(schema.clone()),
            Self::Regex(expression) => TopLevelGrammar::from_regex(expression),
            Self::Lark(text) | Self::Calls(text) => TopLevelGrammar::from_lark(text.clone()),
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

/// Calls of tools as an answer may write them.
pub(crate) struct Calls<'a> {
    /// The model's form of calls.
    pub(crate) form: &'a CallForm,
    pub(crate) tools: &'a [Tool],
    /// Whether one answer may have several calls.
    pub(crate) several: bool,
    /// The part of the first marker that the model has already written; empty if the grammar covers the whole marker.
    pub(crate) begins_after: &'a str,
    /// What the answer may be instead of calls.
    pub(crate) otherwise: Option<&'a Grammar>,
    /// Control tokens of the model's markers, with their texts.
    pub(crate) markers: &'a BTreeMap<u32, String>,
}

impl Calls<'_> {
    /// The grammar of the calls.
    ///
    /// # Errors
    /// A schema is too slow, or a grammar in the Lark language was given as the other answer: its rules might have the same
    /// names.
    pub(crate) fn grammar(&self) -> Result<Grammar, ConstraintError> {
        self.check()?;
        let literal = |text: &str| literal(text, self.markers);
        let whole = self.form.opening.trim_start();
        let opening = match whole.strip_prefix(self.begins_after) {
            // The last token of the marker may contain white space too.
            Some(rest) if !self.begins_after.is_empty() => {
                format!("SPACE? {}", literal(rest.trim_start()))
            }
            _ => literal(whole),
        };
        let closing = literal(self.form.closing.trim_end());
        let (calls, rules) = calls(self.form, self.tools, &literal);
        let more = match &self.form.separator {
            Some(separator) if self.several => format!("({} call)*", literal(separator)),
            _ => String::new(),
        };
        let answer = self.otherwise.map(answer_rule).transpose()?;
        let instead = if answer.is_some() { " | answer" } else { "" };
        let mut all = vec![
            format!("start: calls{instead}"),
            format!("calls: {opening} call {more} {closing}"),
            format!("call: {calls}"),
            r"SPACE: /[\x20\x0A\x0D\x09]{1,32}/".to_owned(),
        ];
        all.extend(answer);
        all.extend(rules);
        Ok(Grammar::Calls(all.join("\n")))
    }
}

impl Calls<'_> {
    /// Checks the schemas of the tools before they are written into a grammar.
    fn check(&self) -> Result<(), ConstraintError> {
        let mut bytes = 0_usize;
        for Tool { arguments, .. } in self.tools {
            limits::check_schema(arguments)?;
            bytes = bytes.saturating_add(arguments.to_string().len());
            if matches!(self.form.call, CallShape::Syntax) {
                // Each argument is a schema of its own, with all definitions.
                let count = arguments["properties"].as_object().map_or(0, Map::len);
                let definitions: usize =
                    DEFINITIONS.iter().map(|key| arguments[*key].to_string().len()).sum();
                bytes = bytes.saturating_add(definitions.saturating_mul(count));
            }
            if !matches!(self.form.call, CallShape::Named { .. }) {
                check_references(arguments)?;
            }
        }
        limits::check_tools(bytes)
    }
}

/// Where a schema has the parts that it refers to.
const DEFINITIONS: [&str; 2] = ["$defs", "definitions"];

/// Checks that a schema refers to its definitions only: other paths lead elsewhere when it becomes a part of another one.
fn check_references(schema: &Value) -> Result<(), ConstraintError> {
    let leads_to_definition =
        |reference: &str| DEFINITIONS.iter().any(|key| reference.starts_with(&format!("#/{key}/")));
    let mut open = vec![schema];
    while let Some(value) = open.pop() {
        match value {
            Value::Array(items) => open.extend(items),
            Value::Object(fields) => {
                let reference = fields.get("$ref").and_then(Value::as_str);
                if let Some(reference) = reference.filter(|path| !leads_to_definition(path)) {
                    let reference: String = reference.chars().take(60).collect();
                    return Err(ConstraintError::Invalid(format!(
                        "`$ref` of `{reference}` is not supported; it may refer to `#/$defs/...` or `#/definitions/...`"
                    )));
                }
                open.extend(fields.values());
            }
            _ => {}
        }
    }
    Ok(())
}

/// Gives a schema the definitions of another one, to which its references lead.
fn with_definitions(mut schema: Value, of: &Value) -> Value {
    for key in DEFINITIONS {
        if let (Some(definitions), Value::Object(fields)) = (of.get(key), &mut schema) {
            fields.entry(key).or_insert_with(|| definitions.clone());
        }
    }
    schema
}

/// The rule `answer` of another grammar.
fn answer_rule(grammar: &Grammar) -> Result<String, ConstraintError> {
    grammar.check()?;
    match grammar {
        Grammar::Schema(schema) => Ok(format!("answer: %json {schema}")),
        Grammar::Regex(expression) => Ok(format!("answer: /{}/", regex_to_lark(expression, ""))),
        Grammar::Lark(_) | Grammar::Calls(_) => Err(ConstraintError::Invalid(
            "a Lark grammar cannot be combined with tools; use `must_match.regex` or `response_format`, or remove `tools`".to_owned(),
        )),
    }
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
                let object = json!({
                    "type": "object", "properties": properties, "required": [name, arguments],
                    "additionalProperties": false,
                });
                with_definitions(object, &tool.arguments)
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
    let mut rules = Vec::new();
    for (at, (name, argument)) in properties.iter().enumerate() {
        let argument = with_definitions(separated(argument.clone(), json), schema);
        rules.push(format!("value_{tool}_{at}: %json {argument}"));
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
fn literal(text: &str, markers: &BTreeMap<u32, String>) -> String {
    let mut terms = Vec::new();
    let mut rest = text;
    while !rest.is_empty() {
        let found = markers.iter().filter_map(|(id, token)| Some((rest.find(token)?, token, id)));
        let first = found.min_by_key(|(at, token, _)| (*at, Reverse(token.len())));
        let (before, after) = match first {
            Some((at, token, _)) => (&rest[..at], &rest[at + token.len()..]),
            None => (rest, ""),
        };
        if !before.is_empty() {
            terms.push(Value::from(before).to_string());
        }
        terms.extend(first.map(|(_, _, id)| format!("<[{id}]>")));
        rest = after;
    }
    terms.join(" ")
}
