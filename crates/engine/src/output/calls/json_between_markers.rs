//! JSON between markers: `<call>{"name": "f", "arguments": {"x": 1}}</call>`.

use super::{CallForm, CallKind, Probe, object};

/// Recognises objects with text before and after them.
pub(super) fn recognise(probe: &Probe) -> Option<CallForm> {
    let objects = object::objects(probe)?;
    let has_markers = !objects.opening.trim().is_empty() && !objects.closing.trim().is_empty();
    has_markers.then(|| objects.into_form(CallKind::JsonBetweenMarkers))
}

#[cfg(test)]
mod tests {
    use super::super::tests::{checked, found, with_calls};
    use super::*;

    #[test]
    fn it_is_found_and_read() {
        let form = found(&with_calls(
            "{% for c in m.tool_calls %}<call>\n{{ {'name': c.function.name, 'arguments': \
             c.function.arguments} | tojson }}\n</call>{% if not loop.last %}{{ '\\n' }}{% endif %}{% endfor %}",
        ));
        assert_eq!(form.kind, CallKind::JsonBetweenMarkers);
        assert_eq!((&form.opening[..], &form.closing[..]), ("<call>\n", "\n</call>"));
        assert_eq!(form.separator.as_deref(), Some("\n</call>\n<call>\n"));
        checked(
            &form,
            "Let me look.\n<call>\n{\"name\": \"f\", \"arguments\": {\"x\": [1, \"a\"]}}\n</call>",
            1,
        );
        checked(
            &form,
            "<call>{\"name\":\"f\",\"arguments\":{\"x\":[1, \"a\"]}}</call><call>{\"name\": \"f\", \"arguments\": \
             {\"x\": [1,\"a\"]}}</call>",
            2,
        );
    }
}
