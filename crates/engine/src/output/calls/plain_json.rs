//! Plain JSON: the whole answer is `{"name": "f", "arguments": {"x": 1}}`.

use super::{CallForm, CallKind, Probe, object};

/// Recognises one object without text around it.
pub(super) fn recognise(probe: &Probe) -> Option<CallForm> {
    let objects = object::objects(probe)?;
    let is_bare = objects.opening.trim().is_empty() && objects.closing.trim().is_empty();
    is_bare.then(|| objects.into_form(CallKind::PlainJson))
}

#[cfg(test)]
mod tests {
    use super::super::tests::{checked, found, of_kind, read, with_calls};
    use super::*;

    #[test]
    fn it_is_found_and_read() {
        let form = found(&with_calls(
            "{% set c = m.tool_calls[0].function %}{{ {'name': c.name, 'parameters': c.arguments} | tojson }}",
        ));
        assert_eq!(form.kind, CallKind::PlainJson);
        checked(&form, "{\"name\": \"f\", \"parameters\": {\"x\": [1, \"a\"]}}", 1);
    }

    #[test]
    fn json_with_another_name_stays_text() {
        let form = of_kind(CallKind::PlainJson);
        for text in ["{\"name\": \"Moonhook bean\", \"depth\": 3}", "{\"depth\": 3}", "{ not JSON"]
        {
            assert_eq!(read(&form, text), (text.to_owned(), Vec::new()));
        }
    }
}
