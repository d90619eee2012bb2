//! The name, then the arguments as JSON: `<call=f>{"x": 1}</call>` or `[CALL]f[ARGUMENTS]{"x": 1}`.

use serde_json::{Map, Value};

use super::super::probe::{KEY, NAMES, VALUE};
use super::{CallForm, CallKind, CallShape, Probe, object};

/// A call in a text: offset of the name, the text between name and arguments, and the end of the arguments.
fn call<'a>(text: &'a str, tool: &str) -> Option<(usize, &'a str, usize)> {
    let name = text.find(tool)?;
    let rest = &text[name + tool.len()..];
    let (middle, _) = rest.split_once('{')?;
    let mut objects = serde_json::Deserializer::from_str(&rest[middle.len()..]).into_iter();
    let arguments: Map<String, Value> = objects.next()?.ok()?;
    (arguments.get(KEY)?[0] == VALUE)
        .then(|| (name, middle, name + tool.len() + middle.len() + objects.byte_offset()))
}

/// Recognises a name that is followed by an object with the arguments.
pub(super) fn recognise(probe: &Probe) -> Option<CallForm> {
    let one = &probe.one;
    let (start, middle, end) = call(one, NAMES[0])?;
    // The end of a name must be recognisable.
    if middle.contains('"') || one[..start].ends_with('"') {
        return None;
    }
    let separator = probe.two.as_ref().and_then(|two| {
        let (first, second) = (call(two, NAMES[0])?.2, call(two, NAMES[1])?.0);
        (first <= second).then(|| two[first..second].to_owned())
    });
    Some(CallForm {
        kind: CallKind::NameThenArguments,
        opening: one[..start].to_owned(),
        separator,
        closing: one[end..].to_owned(),
        call: CallShape::Named { middle: middle.to_owned() },
        json: object::separators(one),
    })
}

#[cfg(test)]
mod tests {
    use super::super::tests::{checked, found, with_calls};
    use super::*;

    #[test]
    fn a_name_in_a_tag_is_found_and_read() {
        let form = found(&with_calls(
            "{% for c in m.tool_calls %}<call={{ c.function.name }}>{{ c.function.arguments | tojson }}</call>\
             {% endfor %}",
        ));
        assert_eq!((form.kind, &form.opening[..]), (CallKind::NameThenArguments, "<call="));
        assert_eq!(form.call, CallShape::Named { middle: ">".to_owned() });
        assert_eq!(
            (form.separator.as_deref(), &form.closing[..]),
            (Some("</call><call="), "</call>")
        );
        let call = "<call=f>{\"x\": [1, \"a\"]}</call>";
        checked(&form, call, 1);
        checked(&form, &format!("I look twice.\n{call}\n{call}"), 2);
    }

    #[test]
    fn a_name_before_a_marker_is_found_and_read() {
        let form = found(&with_calls(
            "{% for c in m.tool_calls %}[CALL]{{ c.function.name }}[ARGUMENTS]{{ c.function.arguments }}{% endfor %}",
        ));
        assert_eq!((&form.opening[..], &form.closing[..]), ("[CALL]", ""));
        checked(
            &form,
            "[CALL]f[ARGUMENTS]{\"x\": [1, \"a\"]}[CALL]f[ARGUMENTS]{\"x\":[1,\"a\"]}",
            2,
        );
    }
}
