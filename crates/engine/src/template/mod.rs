//! Chat templates: they convert a conversation to the text format that the model was trained on.
//!
//! Templates come with model files and are not trusted: rendering has limits of steps, depth and output. Messages of users are
//! not trusted either: texts of control tokens in them are hidden during rendering, so that only those of the template become
//! tokens.

mod bounds;
mod disguise;
mod helpers;
pub(crate) use helpers::spaced_json;

use minijinja::syntax::SyntaxConfig;
use minijinja::value::{Serde, Value};
use minijinja::{Environment, context};
use serde_json::Map;
use thiserror::Error;

use crate::tokenizer::{TokenKind, Vocabulary};
use bounds::BoundedBytes;
use disguise::Disguise;

/// Most steps of a rendering: some thousand messages with a usual template. Memory counts too: 64 bytes are one step.
const FUEL: u64 = 1_000_000;
/// The same for a sample, which is rendered in a process with less memory.
const SAMPLE_FUEL: u64 = 100_000;
/// Longest rendered conversation in bytes.
const MAX_OUTPUT: usize = 16 << 20;
/// Largest depth of macros and includes.
const MAX_DEPTH: usize = 64;
/// Largest template in bytes.
const MAX_SOURCE: usize = 1 << 18;

/// Arguments that every template gets.
const GIVEN: [&str; 5] = ["messages", "tools", "bos_token", "eos_token", "add_generation_prompt"];

/// The error of a rendering.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error("{0}")]
pub struct TemplateError(String);

/// A piece of rendered conversation.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Rendered {
    /// The text.
    pub text: String,
    /// Whether control tokens in it are recognised, because the template wrote them.
    pub trusted: bool,
}

/// The chat template of a model.
pub struct Template {
    environment: Result<Environment<'static>, String>,
    begin: String,
    end: String,
    disguise: Disguise,
}

const FALLBACK: &str = "{% for message in messages %}{{ message.role }}: {{ message.content }}\n\
                        {% endfor %}{% if add_generation_prompt %}assistant:{% endif %}";

impl Template {
    /// The template for files without one.
    pub const FALLBACK_IN_WORDS: &str = "a line `role: text` for each message, then `assistant:`";

    /// Compiles a template. A defect is reported only when a conversation is rendered, because the model can still continue
    /// plain text.
    #[must_use]
    pub fn new(source: Option<&str>, vocabulary: &Vocabulary) -> Self {
        let text = |id: Option<u32>| {
            id.and_then(|id| vocabulary.get(id)).map_or_else(String::new, |(text, _)| text.into())
        };
        let control = vocabulary
            .iter()
            .filter(|(_, _, kind)| matches!(kind, TokenKind::Control | TokenKind::Unknown))
            .map(|(_, text, _)| text);
        Self {
            environment: compile(source.unwrap_or(FALLBACK)),
            begin: text(vocabulary.begin()),
            end: text(vocabulary.end()),
            disguise: Disguise::new(control),
        }
    }

    /// The defect of the template, if it has one.
    #[must_use]
    pub fn defect(&self) -> Option<&str> {
        self.environment.as_ref().err().map(String::as_str)
    }

    /// Whether the template reads an argument, other than those that every template gets.
    #[must_use]
    pub(crate) fn reads(&self, argument: &str) -> bool {
        let template = self.environment.as_ref().ok().and_then(|all| all.get_template("chat").ok());
        let is_given = GIVEN.contains(&argument);
        template.is_some_and(|template| {
            !is_given && template.undeclared_variables(false).contains(argument)
        })
    }

    /// Whether the source of the template contains a text.
    #[must_use]
    pub(crate) fn contains(&self, text: &str) -> bool {
        let template = self.environment.as_ref().ok().and_then(|all| all.get_template("chat").ok());
        template.is_some_and(|template| template.source().contains(text))
    }

    /// A copy with the smaller limits of a sample.
    #[must_use]
    pub(crate) fn sample(&self) -> Self {
        let source = self.environment.as_ref().map_err(Clone::clone).and_then(|environment| {
            let template = environment.get_template("chat").map_err(|error| in_words(&error))?;
            compile(template.source())
        });
        let (begin, end) = (self.begin.clone(), self.end.clone());
        Self { environment: source, begin, end, disguise: self.disguise.clone() }.for_sample()
    }

    /// The template with the smaller limits of a sample.
    #[must_use]
    pub(crate) fn for_sample(mut self) -> Self {
        if let Ok(environment) = &mut self.environment {
            environment.set_fuel(Some(SAMPLE_FUEL));
        }
        self
    }

    /// Renders a conversation up to the beginning of the answer.
    ///
    /// # Errors
    /// The template has a defect, fails, or exceeds its limits. The message names the line.
    pub fn render(
        &self,
        messages: &[Map<String, serde_json::Value>],
        tools: Option<&[serde_json::Value]>,
    ) -> Result<Vec<Rendered>, TemplateError> {
        self.render_with(messages, tools, &Map::new())
    }

    /// The same with further arguments of the template.
    ///
    /// # Errors
    /// As [`Self::render`].
    pub fn render_with(
        &self,
        messages: &[Map<String, serde_json::Value>],
        tools: Option<&[serde_json::Value]>,
        arguments: &Map<String, serde_json::Value>,
    ) -> Result<Vec<Rendered>, TemplateError> {
        let environment =
            self.environment.as_ref().map_err(|defect| TemplateError(defect.clone()))?;
        let messages: Vec<_> =
            messages.iter().map(|message| self.disguise.put_on_object(message)).collect();
        let tools: Option<Vec<_>> =
            tools.map(|tools| tools.iter().map(|tool| self.disguise.put_on(tool)).collect());
        let arguments = self.disguise.put_on_object(arguments);
        let context = context! {
            messages => Value::from(Serde(&messages)),
            tools => Value::from(Serde(&tools)),
            bos_token => &self.begin,
            eos_token => &self.end,
            add_generation_prompt => true,
            ..Value::from(Serde(&arguments))
        };
        let text = render(environment, context)?;
        Ok(self.disguise.take_off(&text))
    }
}

fn compile(source: &str) -> Result<Environment<'static>, String> {
    if source.len() > MAX_SOURCE {
        return Err(format!("it has {} bytes; {MAX_SOURCE} are allowed", source.len()));
    }
    let mut environment = Environment::new();
    let syntax = SyntaxConfig::builder().trim_blocks(true).lstrip_blocks(true).build();
    environment.set_syntax(syntax.map_err(|error| in_words(&error))?);
    environment.set_fuel(Some(FUEL));
    environment.set_recursion_limit(MAX_DEPTH);
    helpers::add_to(&mut environment);
    environment.add_template_owned("chat", source.to_owned()).map_err(|error| in_words(&error))?;
    Ok(environment)
}

fn render(environment: &Environment<'_>, context: Value) -> Result<String, TemplateError> {
    let template =
        environment.get_template("chat").map_err(|error| TemplateError(in_words(&error)))?;
    let mut output = BoundedBytes::new(MAX_OUTPUT);
    template
        .render_captured_to(context, &mut output)
        .map_err(|error| TemplateError(in_words(&error)))?;
    Ok(String::from_utf8_lossy(&output.bytes).into_owned())
}

/// The error with its line, but without the name of a file, because there is none.
fn in_words(error: &minijinja::Error) -> String {
    let what = error.detail().map_or_else(|| error.kind().to_string(), str::to_owned);
    match error.line() {
        Some(line) => format!("{what} (line {line} of the template)"),
        None => what,
    }
}

#[cfg(test)]
pub(crate) mod tests;
