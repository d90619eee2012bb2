//! Calls of batches: the same checks and answers as over HTTP, in one piece.

use actix_web::web::Data;
use deft_protocol::{Problem, ProblemKind};
use serde::Serialize;
use serde_json::Value;
use uuid::Uuid;

use super::caller::Caller;
use super::respond::{body, status_and_body};
use super::{App, chat, embeddings, messages, rerank, responses, text};

/// Paths that a batch can have.
pub(crate) const ENDPOINTS: [&str; 6] = [
    "/v1/chat/completions",
    "/v1/completions",
    "/v1/embeddings",
    "/v1/responses",
    "/v1/messages",
    "/v1/rerank",
];

/// The outcome of a call.
pub(crate) struct Outcome {
    /// Id of the call's record.
    pub(crate) request: Uuid,
    /// The body of the answer.
    pub(crate) answer: Result<Value, Problem>,
}

/// Answers a call of the batch `name`.
pub(crate) async fn answer(app: &Data<App>, endpoint: &str, name: String, bytes: &[u8]) -> Outcome {
    let caller = Caller::of_batch(name);
    let request = caller.request;
    Outcome { request, answer: answered(app, endpoint, &caller, bytes).await }
}

async fn answered(
    app: &Data<App>,
    endpoint: &str,
    caller: &Caller,
    bytes: &[u8],
) -> Result<Value, Problem> {
    let given: Value = body(bytes)?;
    if given["stream"].as_bool().unwrap_or(false) {
        let detail = "`stream` must be false in a batch".to_owned();
        let problem = Problem::new(ProblemKind::Invalid, "field_out_of_range", detail);
        return Err(problem.at_field("stream"));
    }
    match endpoint {
        "/v1/chat/completions" => json(&chat::answer(app, caller, bytes).await?),
        "/v1/completions" => json(&text::answer(app, caller, bytes).await?),
        "/v1/embeddings" => json(&embeddings::answer(app, caller, bytes).await?),
        "/v1/responses" => json(&responses::answer(app, caller, bytes).await?),
        "/v1/messages" => json(&messages::answer(app, caller, bytes).await?),
        "/v1/rerank" => json(&rerank::answer(app, caller, bytes).await?),
        other => Err(no_endpoint(other)),
    }
}

/// The refusal of another path.
pub(crate) fn no_endpoint(path: &str) -> Problem {
    let path: String = path.chars().take(60).collect();
    let detail = format!("a batch cannot have calls of `{path}`");
    Problem::new(ProblemKind::Invalid, "endpoint_not_supported", detail)
        .at_field("endpoint")
        .with_way_out(format!("use one of {}", ENDPOINTS.join(", ")))
}

/// Status and body of a refused call, as over HTTP.
pub(crate) fn refused(endpoint: &str, problem: &Problem) -> (u16, Value) {
    status_and_body(endpoint, problem)
}

fn json(answer: &impl Serialize) -> Result<Value, Problem> {
    serde_json::to_value(answer)
        .map_err(|error| Problem::new(ProblemKind::Fault, "fault", error.to_string()))
}
