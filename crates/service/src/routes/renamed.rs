//! Fields of requests that had another name in the version before. They are read for one version, with a warning in the log.

use std::sync::atomic::{AtomicU32, Ordering};

use serde_json::Value;

/// Fields around it (`*` for entries of a list), former name, name.
const FIELDS: &[(&[&str], &str, &str)] = &[
    (&[], "context_overflow", "when_context_full"),
    (&[], "release", "unload_after"),
    (&[], "copies", "instances"),
    (&[], "move_it", "move"),
    (&[], "passing", "temporary"),
    (&["settings"], "priority", "importance"),
    (&["defaults"], "priority", "importance"),
    (&["models", "*"], "copies", "instances"),
    (&["models", "*", "settings"], "priority", "importance"),
];

/// Bits of the fields that were warned of.
static WARNED: AtomicU32 = AtomicU32::new(0);

/// Warns of former names in a body that was read, once for each name.
pub(super) fn warn(body: &[u8]) {
    for at in found(body) {
        let bit = 1 << at;
        if WARNED.fetch_or(bit, Ordering::Relaxed) & bit == 0 {
            let (_, former, name) = FIELDS[at];
            tracing::warn!(
                "a request has the field `{former}`, which is now called `{name}`; the next version no longer reads \
                 the old name"
            );
        }
    }
}

/// Numbers of the fields whose former names a body has. Most bodies have none, so they are not parsed again.
fn found(body: &[u8]) -> Vec<usize> {
    let has = |name: &str| {
        let quoted = format!("\"{name}\"");
        body.windows(quoted.len()).any(|part| part == quoted.as_bytes())
    };
    let is_possible = |(around, former, _): &(&[&str], &str, &str)| {
        has(former) && around.iter().all(|name| *name == "*" || has(name))
    };
    let possible: Vec<usize> = (0..FIELDS.len()).filter(|at| is_possible(&FIELDS[*at])).collect();
    if possible.is_empty() {
        return possible;
    }
    let body: Value = serde_json::from_slice(body).unwrap_or_default();
    let is_there = |at: &usize| has_field(&body, FIELDS[*at].0, FIELDS[*at].1);
    possible.into_iter().filter(is_there).collect()
}

fn has_field(value: &Value, around: &[&str], name: &str) -> bool {
    match around {
        [] => value.get(name).is_some(),
        ["*", rest @ ..] => value
            .as_array()
            .is_some_and(|entries| entries.iter().any(|entry| has_field(entry, rest, name))),
        [outer, rest @ ..] => value.get(outer).is_some_and(|value| has_field(value, rest, name)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn former_names_are_found_where_they_are_fields_and_nowhere_else() {
        let names = |body: &str| -> Vec<&str> {
            found(body.as_bytes()).into_iter().map(|at| FIELDS[at].1).collect()
        };
        assert_eq!(names(r#"{"model": "m", "context_overflow": "end"}"#), ["context_overflow"]);
        assert_eq!(names(r#"{"models": [{"model": "m", "copies": 2}]}"#), ["copies"]);
        assert_eq!(names(r#"{"settings": {"priority": 1}}"#), ["priority"]);
        for body in [
            r#"{"model": "m", "priority": "urgent"}"#,
            r#"{"messages": [{"role": "user", "content": "the field \"release\" is old"}]}"#,
            r#"{"messages": [{"role": "user", "content": "release"}]}"#,
            "no JSON with \"release\"",
        ] {
            assert!(names(body).is_empty(), "{body}");
        }
    }
}
