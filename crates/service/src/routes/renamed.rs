//! Fields of requests that had another name in the version before. They are read for one version, with a warning in the log.

use std::sync::LazyLock;
use std::sync::atomic::{AtomicU32, Ordering};

use aho_corasick::AhoCorasick;
use serde::Deserialize;
use serde::de::IgnoredAny;

/// Former name, name.
const NAMES: [(&str, &str); 6] = [
    ("context_overflow", "when_context_full"),
    ("release", "unload_after"),
    ("copies", "instances"),
    ("move_it", "move"),
    ("passing", "temporary"),
    ("priority", "importance"),
];

/// Finds former names in quotes. Most bodies have none, so they are not parsed again.
static QUOTED: LazyLock<AhoCorasick> = LazyLock::new(|| {
    let quoted = NAMES.map(|(former, _)| format!("\"{former}\""));
    AhoCorasick::new(quoted).expect("a few short words")
});

/// Bits of the names that were warned of.
static WARNED: AtomicU32 = AtomicU32::new(0);

/// Finds fields with former names. Everything else is skipped without being stored.
#[derive(Debug, Default, Deserialize)]
#[serde(default)]
struct Former {
    context_overflow: Option<IgnoredAny>,
    release: Option<IgnoredAny>,
    copies: Option<IgnoredAny>,
    move_it: Option<IgnoredAny>,
    passing: Option<IgnoredAny>,
    settings: FormerSettings,
    defaults: FormerSettings,
    models: Vec<FormerLoad>,
}

/// Load settings.
#[derive(Debug, Default, Deserialize)]
#[serde(default)]
struct FormerSettings {
    priority: Option<IgnoredAny>,
}

/// One load of several to plan.
#[derive(Debug, Default, Deserialize)]
#[serde(default)]
struct FormerLoad {
    copies: Option<IgnoredAny>,
    settings: FormerSettings,
}

/// Warns of former names in a body that was read, once for each name.
pub(super) fn warn(body: &[u8]) {
    for at in found(body) {
        let bit = 1 << at;
        if WARNED.fetch_or(bit, Ordering::Relaxed) & bit == 0 {
            let (former, name) = NAMES[at];
            tracing::warn!(
                "a request has the field `{former}`, which is now called `{name}`; the next version no longer reads \
                 the old name"
            );
        }
    }
}

/// The former names that a body has as fields, by their places in [`NAMES`].
fn found(body: &[u8]) -> Vec<usize> {
    if !QUOTED.is_match(body) {
        return Vec::new();
    }
    let Ok(body) = serde_json::from_slice::<Former>(body) else { return Vec::new() };
    let mut settings =
        body.models.iter().map(|load| &load.settings).chain([&body.settings, &body.defaults]);
    let is_there = [
        body.context_overflow.is_some(),
        body.release.is_some(),
        body.copies.is_some() || body.models.iter().any(|load| load.copies.is_some()),
        body.move_it.is_some(),
        body.passing.is_some(),
        settings.any(|settings| settings.priority.is_some()),
    ];
    (0..NAMES.len()).filter(|at| is_there[*at]).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn former_names_are_found_where_they_are_fields_and_nowhere_else() {
        let names = |body: &str| -> Vec<&str> {
            found(body.as_bytes()).into_iter().map(|at| NAMES[at].0).collect()
        };
        assert_eq!(names(r#"{"model": "m", "context_overflow": "end"}"#), ["context_overflow"]);
        assert_eq!(names(r#"{"models": [{"model": "m", "copies": 2}]}"#), ["copies"]);
        assert_eq!(names(r#"{"settings": {"priority": 1}}"#), ["priority"]);
        assert_eq!(names(r#"{"models": [{"settings": {"priority": 1}}]}"#), ["priority"]);
        for body in [
            r#"{"model": "m", "priority": "urgent"}"#,
            r#"{"messages": [{"role": "user", "content": "the field \"release\" is old"}]}"#,
            r#"{"messages": [{"role": "user", "content": "release"}]}"#,
            r#"{"tools": [{"release": 1, "copies": 2}]}"#,
            "no JSON with \"release\"",
        ] {
            assert!(names(body).is_empty(), "{body}");
        }
    }
}
