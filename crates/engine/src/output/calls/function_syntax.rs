//! The syntax of function calls with named arguments: `[f(x=1), g(y="a")]`. Values are JSON, or the literals `True`,
//! `False`, `None` and texts in single quotes.

use super::super::probe::{KEY, NAMES};
use super::{CallForm, CallKind, CallShape, Probe};

/// A call in a text: offset of the name, and of the end after its closing parenthesis.
fn call(text: &str, tool: &str) -> Option<(usize, usize)> {
    let start = text.find(&format!("{tool}("))?;
    let body = start + tool.len() + 1;
    text[body..].trim_start().strip_prefix(KEY)?.trim_start().strip_prefix('=')?;
    // The value of the probe has no parentheses.
    Some((start, body + text[body..].find(')')? + 1))
}

/// Recognises a name with parentheses and a named argument.
pub(super) fn recognise(probe: &Probe) -> Option<CallForm> {
    let one = &probe.one;
    let (start, end) = call(one, NAMES[0])?;
    let separator = probe.two.as_ref().and_then(|two| {
        let (first, second) = (call(two, NAMES[0])?.1, call(two, NAMES[1])?.0);
        (first <= second).then(|| two[first..second].to_owned())
    });
    Some(CallForm {
        kind: CallKind::FunctionSyntax,
        opening: one[..start].to_owned(),
        separator,
        closing: one[end..].to_owned(),
        call: CallShape::Syntax,
        json: [", ", ": "],
    })
}

#[cfg(test)]
mod tests {
    use super::super::tests::{checked, found, of_kind, read, with_calls};
    use super::*;

    #[test]
    fn it_is_found_and_read() {
        let form = found(&with_calls(
            "[{% for c in m.tool_calls %}{{ c.function.name }}({% for k, v in c.function.arguments | items %}{{ k }}=\
             {{ v | tojson }}{% if not loop.last %}, {% endif %}{% endfor %}){% if not loop.last %}, {% endif %}\
             {% endfor %}]",
        ));
        assert_eq!((form.kind, &form.opening[..]), (CallKind::FunctionSyntax, "["));
        assert_eq!((form.separator.as_deref(), &form.closing[..]), (Some(", "), "]"));
        checked(&form, "[f(x=[1, \"a\"])]", 1);
        checked(&form, "[f(x=[1, 'a']), f( x = [1, \"a\"] )]", 2);
    }

    #[test]
    fn literals_of_the_language_become_json() {
        let form = of_kind(CallKind::FunctionSyntax);
        let (text, calls) =
            read(&form, "[f(a=True, b=None, c='it\\'s', d={\"k\": False}, e=-1.5)]");
        assert_eq!(text, "");
        let arguments =
            "{\"a\": true, \"b\": null, \"c\": \"it's\", \"d\": {\"k\": false}, \"e\": -1.5}";
        assert_eq!(calls, [("f".to_owned(), arguments.to_owned())]);
    }
}
