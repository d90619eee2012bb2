//! The form of a model's output: where it thinks, and how it writes tool calls.
//!
//! Both are found by rendering a short conversation with the model's own chat template ([`probe`]), never by the model's
//! name. A [`Reader`] then divides the output into reasoning, text and calls while it is generated.

mod calls;
mod json_scan;
mod probe;
mod reader;
mod reasoning;

pub use calls::is_example;
#[cfg(test)]
pub(crate) use calls::tests::of_kind;
pub use calls::{CallForm, CallKind, CallShape};
pub(crate) use reader::{Event, Reader};
pub use reasoning::ReasoningMarkers;

use crate::template::Template;
use crate::tokenizer::Vocabulary;

/// The form of a model's output.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct OutputForm {
    /// The markers around the model's reasoning, if it has any.
    pub reasoning: Option<ReasoningMarkers>,
    /// How the model writes tool calls, if its template writes any.
    pub calls: Option<CallForm>,
    /// Whether the template reads arguments of earlier calls as text; otherwise it reads objects.
    pub arguments_as_text: bool,
}

impl OutputForm {
    /// The texts of all markers.
    pub(crate) fn marker_texts(&self) -> Vec<&str> {
        let calls = self.calls.iter().flat_map(|form| {
            let middle = match &form.call {
                CallShape::Named { middle } => middle.as_str(),
                _ => "",
            };
            [&form.opening, &form.closing, form.separator.as_deref().unwrap_or(""), middle]
                .map(|text: &str| text)
        });
        let reasoning =
            self.reasoning.iter().flat_map(|markers| [&markers.opening[..], &markers.closing]);
        calls.chain(reasoning).collect()
    }

    /// Finds the form with the template of a model. Costs some renderings.
    #[must_use]
    pub fn find(template: &Template, vocabulary: &Vocabulary) -> Self {
        let template = template.sample();
        let reasoning = reasoning::find(&template, vocabulary);
        let found = calls::find(&template, vocabulary);
        let arguments_as_text = found.as_ref().is_some_and(|(_, as_text)| *as_text);
        Self { reasoning, calls: found.map(|(form, _)| form), arguments_as_text }
    }
}
