//! Several calls in a list: `[{"name": "f", "arguments": {"x": 1}}, ...]`, with or without a marker before it.

use super::{CallForm, CallKind, Probe, object};

/// Recognises objects in brackets.
pub(super) fn recognise(probe: &Probe) -> Option<CallForm> {
    let objects = object::objects(probe)?;
    let in_brackets =
        objects.opening.trim_end().ends_with('[') && objects.closing.trim_start().starts_with(']');
    let has_comma = objects.separator.as_ref().is_none_or(|text| text.trim() == ",");
    (in_brackets && has_comma).then(|| objects.into_form(CallKind::List))
}

#[cfg(test)]
mod tests {
    use super::super::tests::{checked, found, with_calls};
    use super::*;

    const CALLS: &str = "[{% for c in m.tool_calls %}{{ {'name': c.function.name, 'arguments': c.function.arguments} | \
                         tojson }}{% if not loop.last %}, {% endif %}{% endfor %}]";

    #[test]
    fn it_is_found_and_read() {
        let form = found(&with_calls(CALLS));
        assert_eq!((form.kind, &form.opening[..], &form.closing[..]), (CallKind::List, "[", "]"));
        assert_eq!(form.separator.as_deref(), Some(", "));
        let call = "{\"name\": \"f\", \"arguments\": {\"x\": [1, \"a\"]}}";
        checked(&form, &format!("[{call}]"), 1);
        checked(&form, &format!("[{call},{call}]"), 2);
    }

    #[test]
    fn a_marker_may_precede_the_list() {
        let form = found(&with_calls(&format!("[CALLS] {CALLS}")));
        assert_eq!((form.kind, &form.opening[..]), (CallKind::List, "[CALLS] ["));
        checked(
            &form,
            "[CALLS] [{\"name\": \"f\", \"arguments\": {\"x\": [1, \"a\"]}, \"id\": \"abc\"}]",
            1,
        );
        checked(&form, "[CALLS][{\"name\": \"f\", \"arguments\": {\"x\": [1, \"a\"]}}]", 1);
    }
}
