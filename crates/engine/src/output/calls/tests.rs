//! Shared parts of the tests of all forms.

use std::sync::Arc;

use super::super::{Event, OutputForm, Reader};
use super::*;
use crate::template::Template;

/// A vocabulary of control tokens that end an answer.
pub(in crate::output) fn vocabulary(ends: &[&str]) -> Vocabulary {
    Vocabulary::of_ends(ends)
}

/// A usual example of each form.
pub(crate) fn of_kind(kind: CallKind) -> CallForm {
    let object =
        || CallShape::Object { name: "name".to_owned(), arguments: "arguments".to_owned() };
    let text = ToOwned::to_owned;
    let (opening, separator, closing, call) = match kind {
        CallKind::JsonBetweenMarkers => {
            ("<call>\n", Some("\n</call>\n<call>\n"), "\n</call>", object())
        }
        CallKind::JsonToEnd => ("[CALL]", None, "", object()),
        CallKind::LinePerCall => ("", Some("\n"), "", object()),
        CallKind::NameThenArguments => {
            let call = CallShape::Named { middle: ">".to_owned() };
            ("<tool=", Some("</tool>\n<tool="), "</tool>", call)
        }
        CallKind::FunctionSyntax => ("[", Some(", "), "]", CallShape::Syntax),
        CallKind::List => ("[", Some(", "), "]", object()),
        CallKind::PlainJson => ("", None, "", object()),
    };
    let (opening, closing) = (text(opening), text(closing));
    CallForm { kind, opening, separator: separator.map(text), closing, call, json: [", ", ": "] }
}

/// A template whose messages with calls are written by `calls`, with the message as `m`.
pub(in crate::output) fn with_calls(calls: &str) -> String {
    format!(
        "{{% for m in messages %}}<|{{{{ m.role }}}}|>{{% if m.tool_calls %}}{calls}{{% else %}}{{{{ m.content }}}}\
         {{% endif %}}<|e|>\n{{% endfor %}}{{% if add_generation_prompt %}}<|assistant|>{{% endif %}}"
    )
}

/// The form of a template.
pub(super) fn found(source: &str) -> CallForm {
    let vocabulary = vocabulary(&["<|e|>"]);
    let template = Template::new(Some(source), &vocabulary);
    assert_eq!(template.defect(), None);
    let form = OutputForm::find(&template, &vocabulary).calls;
    form.unwrap_or_else(|| panic!("no form is found in {source}"))
}

/// Text and calls of an output, read with a tool `f`.
pub(in crate::output) fn read(form: &CallForm, output: &str) -> (String, Vec<(String, String)>) {
    let read = |cut: usize| {
        let mut reader =
            Reader::new(None, Some(Arc::new(form.clone())), Arc::from(["f".to_owned()]), false);
        let (mut text, mut calls) = (String::new(), Vec::new());
        let mut events = Vec::new();
        let characters: Vec<char> = output.chars().collect();
        for piece in characters.chunks(cut) {
            reader.push(&piece.iter().collect::<String>(), &mut events);
        }
        reader.finish(&mut events);
        for event in events {
            match event {
                Event::Text(piece) => text.push_str(&piece),
                Event::Reasoning(piece) => panic!("reasoning: {piece}"),
                Event::Call { index, name } => {
                    assert_eq!(index as usize, calls.len());
                    calls.push((name, String::new()));
                }
                Event::Arguments { index, text } => calls[index as usize].1.push_str(&text),
            }
        }
        (text, calls)
    };
    let whole = read(output.len().max(1));
    for cut in 1..8 {
        assert_eq!(read(cut), whole, "in pieces of {cut}: {output}");
    }
    whole
}

/// Checks that an output has `count` calls of `f` with the argument `x` of `[1, "a"]`.
pub(super) fn checked(form: &CallForm, output: &str, count: usize) {
    let (_, calls) = read(form, output);
    assert_eq!(calls.len(), count, "{output}: {calls:?}");
    for (name, arguments) in calls {
        let arguments: serde_json::Value = serde_json::from_str(&arguments).unwrap();
        assert_eq!((&name[..], arguments), ("f", serde_json::json!({"x": [1, "a"]})), "{output}");
    }
}

#[test]
fn the_demo_models_form_is_json_between_control_tokens() {
    let folder = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/larkfen-desk");
    let (tokenizer, source) =
        crate::template::tests::tokenizer_of(&folder.join("larkfen-desk-f16.gguf"));
    let template = Template::new(source.as_deref(), tokenizer.vocabulary());
    let found = OutputForm::find(&template, tokenizer.vocabulary());
    let form = found.calls.unwrap();
    assert_eq!(form.kind, CallKind::JsonBetweenMarkers);
    assert_eq!((&form.opening[..], &form.closing[..]), ("<|call|>", "<|/call|>"));
    assert_eq!(form.json, [", ", ": "]);
    assert_eq!(found.reasoning, None);
}

#[test]
fn templates_that_read_arguments_as_text_are_recognised() {
    let calls = |arguments: &str| {
        with_calls(&format!(
            "{{% set c = m.tool_calls[0].function %}}<call>{{\"name\": \"{{{{ c.name }}}}\", \"arguments\": \
             {{{{ {arguments} }}}}}}</call>"
        ))
    };
    let vocabulary = vocabulary(&["<|e|>"]);
    for (arguments, as_text) in [("c.arguments", true), ("c.arguments | tojson", false)] {
        let template = Template::new(Some(&calls(arguments)), &vocabulary);
        let found = OutputForm::find(&template, &vocabulary);
        assert_eq!(found.calls.unwrap().kind, CallKind::JsonBetweenMarkers, "{arguments}");
        assert_eq!(found.arguments_as_text, as_text, "{arguments}");
    }
}

#[test]
fn templates_without_calls_have_no_form() {
    for source in [
        "{% for m in messages %}{{ m.role }}: {{ m.content }}<|e|>{% endfor %}assistant:",
        "{% for m in messages %}{% if m.tool_calls %}{{ raise_exception('no calls') }}{% endif %}{{ m.content }}\
         {% endfor %}",
        "{{ messages[99].content.x }}",
    ] {
        let vocabulary = vocabulary(&["<|e|>"]);
        let template = Template::new(Some(source), &vocabulary);
        assert_eq!(OutputForm::find(&template, &vocabulary).calls, None, "{source}");
    }
}

#[test]
fn every_form_reads_its_own_example() {
    for kind in CallKind::ALL {
        let form = of_kind(kind);
        let example = form.example().replace("find", "f");
        let (text, calls) = read(&form, &example);
        let arguments: serde_json::Value = serde_json::from_str(&calls[0].1).unwrap();
        assert_eq!(
            (&text[..], arguments),
            ("", serde_json::json!({"text": "Moonhook"})),
            "{example}"
        );
    }
}
