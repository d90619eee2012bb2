//! The form of an example: a call of the tool `find` with the argument `text`, whose value is `Moonhook`.
//!
//! Operators give it for a model whose template writes no calls. It has the form in which the service shows examples.

use super::{CallForm, Probe, probe, recognise};

impl CallForm {
    /// The form of an example; none if it has none of the known forms.
    pub(crate) fn of_example(example: &str) -> Option<Self> {
        let value = example.rfind("\"Moonhook\"")?;
        let key = example[..value].rfind("text")?;
        let name = example[..key].rfind("find").or_else(|| example.find("find"))?;
        let (key_text, name_text) = (probe::KEY, probe::NAMES[0]);
        let value_text = format!("[\"{}\", null, true]", probe::VALUE);
        let mut parts = [
            (name, "find".len(), name_text),
            (key, "text".len(), key_text),
            (value, "\"Moonhook\"".len(), &value_text),
        ];
        parts.sort_unstable();
        let (mut one, mut from) = (String::new(), 0);
        for (at, length, text) in parts {
            one += example.get(from..at)?;
            one += text;
            from = at + length;
        }
        one += &example[from..];
        recognise(&Probe { one, two: None })
    }
}

/// Whether a text is an example of a known form.
#[must_use]
pub fn is_example(text: &str) -> bool {
    CallForm::of_example(text).is_some()
}

#[cfg(test)]
mod tests {
    use super::super::tests::of_kind;
    use super::super::{CallForm, CallKind};

    #[test]
    fn the_example_of_each_form_has_the_form() {
        for kind in CallKind::ALL {
            let form = of_kind(kind);
            let found = CallForm::of_example(&form.example());
            let alone = CallForm { separator: None, ..form };
            assert_eq!(found.map(|found| found.example()), Some(alone.example()), "{kind:?}");
        }
    }

    #[test]
    fn other_texts_are_no_examples() {
        for text in [
            "",
            "find",
            "\"Moonhook\"",
            "\"Moonhook\" text find",
            "find a \"text\" about \"Moonhook\"",
            "{\"name\": \"look\", \"arguments\": {\"text\": \"Moonhook\"}}",
            "{\"name\": \"find\", \"arguments\": {\"text\": \"Moonhook\"}",
        ] {
            assert_eq!(CallForm::of_example(text), None, "{text}");
        }
    }
}
