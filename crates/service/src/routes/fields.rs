//! Refuses fields of requests that this version does not support, by name. A field that is silently ignored would change the
//! answer without a sign.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::LazyLock;

use deft_protocol::{Problem, ProblemKind};
use serde::de::IgnoredAny;
use serde_json::Value;

/// Fields that clients send and that cannot change the answer.
const IGNORED: [&str; 9] = [
    "cache_control",
    "metadata",
    "prompt_cache_key",
    "prompt_cache_retention",
    "safety_identifier",
    "service_tier",
    "store",
    "context_overflow",
    "release",
];

/// The described requests whose fields are checked.
const REQUESTS: [&str; 10] = [
    "BatchRequest",
    "ChatRequest",
    "TextRequest",
    "EmbeddingRequest",
    "RerankRequest",
    "ResponseRequest",
    "MessagesRequest",
    "MessagesHead",
    "TokenizeRequest",
    "DetokenizeRequest",
];

/// The fields of each request, from the description of the API.
static KNOWN: LazyLock<BTreeMap<&str, BTreeSet<String>>> = LazyLock::new(|| {
    let schemas = super::openapi::schemas();
    REQUESTS.into_iter().map(|name| (name, properties(&schemas[name], &schemas))).collect()
});

/// Reads the description of the API, so that the first request does not wait for it.
pub(crate) fn prepare() {
    LazyLock::force(&KNOWN);
}

/// The properties of a schema and of the schemas that it consists of.
fn properties(schema: &Value, schemas: &Value) -> BTreeSet<String> {
    let own = schema["properties"].as_object().into_iter().flat_map(|map| map.keys().cloned());
    let reference = schema["$ref"].as_str().and_then(|path| path.rsplit('/').next());
    let parts = schema["allOf"].as_array().into_iter().flatten();
    let parts = parts.chain(reference.map(|name| &schemas[name]));
    let inner: Vec<String> = parts.flat_map(|part| properties(part, schemas)).collect();
    own.chain(inner).collect()
}

/// Checks the fields of a request.
///
/// # Errors
/// The first field that is not supported.
pub(super) fn check(bytes: &[u8], request: &str) -> Result<(), Problem> {
    // Another defect of the body is reported when it is read.
    let fields: BTreeMap<String, IgnoredAny> = serde_json::from_slice(bytes).unwrap_or_default();
    let is_supported = |field: &str| {
        IGNORED.contains(&field) || KNOWN.get(request).is_none_or(|known| known.contains(field))
    };
    let Some(field) = fields.keys().find(|field| !is_supported(field)) else {
        return Ok(());
    };
    let name: String = field.chars().take(60).collect();
    let detail = format!("`{name}` is not supported");
    Err(Problem::new(ProblemKind::Invalid, "field_unknown", detail)
        .at_field(name)
        .with_way_out("remove it; GET /manage/v1/openapi.json lists the supported fields"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn described_fields_are_known_and_others_are_refused() {
        for (request, fields) in [
            (
                "ChatRequest",
                &["model", "messages", "tools", "tool_choice", "temperature", "stream", "user"][..],
            ),
            ("TextRequest", &["model", "prompt", "echo", "max_tokens", "seed"]),
            ("EmbeddingRequest", &["model", "input", "encoding_format"]),
        ] {
            for field in fields {
                let body = format!("{{\"{field}\": 1, \"metadata\": {{}}}}");
                assert_eq!(check(body.as_bytes(), request), Ok(()), "{request}: {field}");
            }
            for field in ["functions", "best_of", "tool_chioce"] {
                let body = format!("{{\"model\": \"m\", \"{field}\": 1}}");
                let problem = check(body.as_bytes(), request).unwrap_err();
                assert_eq!(problem.field.as_deref(), Some(field));
            }
        }
        assert_eq!(check(b"no JSON", "ChatRequest"), Ok(()));
    }
}
