//! One call per line: `{"name": "f", "arguments": {"x": 1}}`, without markers.

use super::{CallForm, CallKind, Probe, object};

/// Recognises objects without text around them, of which each is in a line of its own.
pub(super) fn recognise(probe: &Probe) -> Option<CallForm> {
    let objects = object::objects(probe)?;
    let is_bare = objects.opening.trim().is_empty() && objects.closing.trim().is_empty();
    let has_lines = objects.separator.as_ref().is_some_and(|text| text.trim().is_empty());
    (is_bare && has_lines).then(|| objects.into_form(CallKind::LinePerCall))
}

#[cfg(test)]
mod tests {
    use super::super::tests::{checked, found, with_calls};
    use super::*;

    #[test]
    fn it_is_found_and_read() {
        let form = found(&with_calls(
            "{% for c in m.tool_calls %}{{ {'name': c.function.name, 'arguments': c.function.arguments} | tojson \
             }}{% if not loop.last %}{{ '\\n' }}{% endif %}{% endfor %}",
        ));
        assert_eq!(form.kind, CallKind::LinePerCall);
        let call = "{\"name\": \"f\", \"arguments\": {\"x\": [1, \"a\"]}}";
        checked(&form, call, 1);
        checked(&form, &format!("{call}\n{call}\n{call}"), 3);
    }
}
