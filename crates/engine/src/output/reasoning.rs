//! The markers around a model's reasoning.

use super::probe;
use crate::template::Template;
use crate::tokenizer::{TokenKind, Vocabulary};

/// Pairs of markers of published models, for templates that do not write the reasoning of earlier answers.
const KNOWN: [[&str; 2]; 4] = [
    ["<think>", "</think>"],
    ["<thinking>", "</thinking>"],
    ["<reasoning>", "</reasoning>"],
    ["[THINK]", "[/THINK]"],
];

/// The markers around a model's reasoning.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ReasoningMarkers {
    /// The text before the reasoning, without white space around it.
    pub opening: String,
    /// The text after the reasoning, likewise.
    pub closing: String,
    /// The closing marker with the white space that the template writes around it.
    pub closing_text: String,
    /// Whether the prompt ends with the opening marker, so that an answer begins with reasoning.
    pub begins_open: bool,
}

impl ReasoningMarkers {
    fn new(opening: &str, closing_text: &str, prompt_end: &str) -> Option<Self> {
        let (opening, closing) = (opening.trim(), closing_text.trim());
        let begins_open = !opening.is_empty() && prompt_end.trim_end().ends_with(opening);
        (!opening.is_empty() && !closing.is_empty() && opening != closing).then(|| Self {
            opening: opening.to_owned(),
            closing: closing.to_owned(),
            closing_text: closing_text.to_owned(),
            begins_open,
        })
    }
}

/// Finds the markers: from what the template writes around reasoning, otherwise from known pairs that the template or
/// the control tokens contain.
pub(super) fn find(template: &Template, vocabulary: &Vocabulary) -> Option<ReasoningMarkers> {
    let prompt_end = probe::prompt_end(template).unwrap_or_default();
    if let Some((before, between)) = probe::reasoning(template)
        && let Some(found) = ReasoningMarkers::new(&before, &between, &prompt_end)
    {
        return Some(found);
    }
    let is_token = |text: &str| {
        vocabulary
            .id(text)
            .and_then(|id| vocabulary.get(id))
            .is_some_and(|(_, kind)| matches!(kind, TokenKind::Control | TokenKind::UserDefined))
    };
    let is_known = |[opening, closing]: &&[&str; 2]| {
        [opening, closing].into_iter().all(|text| is_token(text) || template.contains(text))
    };
    let [opening, closing] = KNOWN.iter().find(is_known)?;
    ReasoningMarkers::new(opening, &format!("\n{closing}\n\n"), &prompt_end)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::output::calls::tests::vocabulary;

    fn found(source: &str) -> Option<ReasoningMarkers> {
        let vocabulary = vocabulary(&["<e>"]);
        find(&Template::new(Some(source), &vocabulary), &vocabulary)
    }

    const WRITES: &str = "{% for m in messages %}<{{ m.role }}>{% if m.reasoning_content %}\
        <mull>\n{{ m.reasoning_content }}\n</mull>\n\n{% endif %}{{ m.content }}<e>{% endfor %}\
        {% if add_generation_prompt %}<assistant>{% endif %}";

    #[test]
    fn markers_are_those_that_the_template_writes() {
        let markers = found(WRITES).unwrap();
        assert_eq!((&markers.opening[..], &markers.closing[..]), ("<mull>", "</mull>"));
        assert_eq!(markers.closing_text, "\n</mull>\n\n");
        assert!(!markers.begins_open);
    }

    #[test]
    fn a_prompt_that_ends_with_the_opening_marker_is_noticed() {
        let source = WRITES.replace("<assistant>{% endif %}", "<assistant><mull>\n{% endif %}");
        assert!(found(&source).unwrap().begins_open);
    }

    #[test]
    fn known_markers_are_found_in_templates_that_remove_earlier_reasoning() {
        let source = "{% for m in messages %}<{{ m.role }}>{{ m.content.split('</think>')[-1] }}<e>\
            {% endfor %}<assistant><think>\n";
        let markers = found(source).unwrap();
        assert_eq!((&markers.opening[..], &markers.closing[..]), ("<think>", "</think>"));
        assert!(markers.begins_open);
    }

    #[test]
    fn a_template_without_reasoning_has_no_markers() {
        let source =
            "{% for m in messages %}<{{ m.role }}>{{ m.content }}<e>{% endfor %}<assistant>";
        assert_eq!(found(source), None);
    }
}
