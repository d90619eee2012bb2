//! JSON after a marker until the end of the answer: `[CALL]{"name": "f", "arguments": {"x": 1}}`.

use super::{CallForm, CallKind, Probe, object};

/// Recognises objects with text before them and none after them.
pub(super) fn recognise(probe: &Probe) -> Option<CallForm> {
    let objects = object::objects(probe)?;
    let has_marker = !objects.opening.trim().is_empty() && objects.closing.trim().is_empty();
    has_marker.then(|| objects.into_form(CallKind::JsonToEnd))
}

#[cfg(test)]
mod tests {
    use super::super::tests::{checked, found, with_calls};
    use super::*;

    #[test]
    fn it_is_found_and_read() {
        let form = found(&with_calls(
            "{% set c = m.tool_calls[0].function %}[CALL]{{ {'name': c.name, 'parameters': c.arguments} | tojson }}",
        ));
        assert_eq!((form.kind, &form.opening[..]), (CallKind::JsonToEnd, "[CALL]"));
        assert_eq!(form.separator, None);
        checked(&form, "[CALL]{\"name\": \"f\", \"parameters\": {\"x\": [1, \"a\"]}}", 1);
        checked(&form, "[CALL] {\"parameters\": {\"x\": [1, \"a\"]}, \"name\": \"f\"}\n", 1);
    }
}
