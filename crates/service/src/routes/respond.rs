//! Answers that are no success: one place that maps problems to HTTP, in the chat protocol's error
//! shape under `/v1` and as `application/problem+json` elsewhere.

use std::fmt;
use std::time::Duration;

use actix_web::dev::Payload;
use actix_web::error::InternalError;
use actix_web::http::StatusCode;
use actix_web::http::header::CONTENT_LENGTH;
use actix_web::{FromRequest, HttpRequest, HttpResponse, ResponseError, web};
use deft_protocol::chat::{ErrorBody, ErrorDetail};
use deft_protocol::messages::{MessagesError, MessagesErrorDetail};
use deft_protocol::{Problem, ProblemKind};
use futures_util::StreamExt;
use futures_util::future::LocalBoxFuture;
use serde::Serialize;
use serde_json::Value;
use tokio::sync::{Semaphore, SemaphorePermit};

use super::MAX_BODY;

/// Where the chat-completions protocol is spoken.
const CHAT_PATHS: &str = "/v1/";
/// Where the messages protocol is spoken.
const MESSAGES_PATH: &str = "/v1/messages";
/// Header of the chat-completions protocol: whether clients may send the request again.
const SHOULD_RETRY: &str = "x-should-retry";
/// Seconds after which a caller may try again.
const RETRY_AFTER: u32 = 2;

/// A problem of a management call.
#[derive(Debug)]
pub(crate) struct ManageError(pub(crate) Problem);

/// A problem of a call in the chat-completions protocol.
#[derive(Debug)]
pub(crate) struct ChatError(pub(crate) Problem);

/// A problem of a call in the messages protocol.
#[derive(Debug)]
pub(crate) struct MessagesProblem(pub(crate) Problem);

macro_rules! problem_error {
    ($name:ident, $status:path, $respond:path) => {
        impl From<Problem> for $name {
            fn from(problem: Problem) -> Self {
                Self(problem)
            }
        }

        impl fmt::Display for $name {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                self.0.fmt(f)
            }
        }

        impl ResponseError for $name {
            fn status_code(&self) -> StatusCode {
                $status(&self.0)
            }

            fn error_response(&self) -> HttpResponse {
                $respond(&self.0)
            }
        }
    };
}

problem_error!(ManageError, status, manage_response);
problem_error!(ChatError, chat_status, chat_response);
problem_error!(MessagesProblem, chat_status, messages_response);

fn status(problem: &Problem) -> StatusCode {
    StatusCode::from_u16(problem.status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR)
}

/// The status of the chat-completions protocol. Its clients send a request again after a 409, so a final refusal has
/// another status.
fn chat_status(problem: &Problem) -> StatusCode {
    match problem.kind {
        ProblemKind::Refused => StatusCode::UNPROCESSABLE_ENTITY,
        _ => status(problem),
    }
}

fn builder(problem: &Problem, status: StatusCode) -> actix_web::HttpResponseBuilder {
    let mut builder = HttpResponse::build(status);
    if matches!(problem.kind, ProblemKind::Overloaded | ProblemKind::Busy) {
        let seconds = problem.retry_after_seconds.unwrap_or(RETRY_AFTER);
        builder.insert_header(("retry-after", seconds.to_string()));
    }
    if problem.kind == ProblemKind::Unauthorized {
        builder.insert_header(("www-authenticate", "Bearer realm=\"Deft Harbor\""));
    }
    builder
}

fn manage_response(problem: &Problem) -> HttpResponse {
    builder(problem, status(problem))
        .insert_header(("content-type", "application/problem+json"))
        .json(problem)
}

fn chat_response(problem: &Problem) -> HttpResponse {
    answer_response(problem, &error_body(problem))
}

fn messages_response(problem: &Problem) -> HttpResponse {
    answer_response(problem, &messages_error(problem))
}

fn answer_response(problem: &Problem, body: &impl Serialize) -> HttpResponse {
    // Clients of both protocols send requests again after every 5xx, unless this header says otherwise.
    let retry = if problem.kind.may_be_retried() { "true" } else { "false" };
    let mut builder = builder(problem, chat_status(problem));
    builder.insert_header((SHOULD_RETRY, retry)).json(body)
}

/// The problem in the messages protocol's shape.
pub(crate) fn messages_error(problem: &Problem) -> MessagesError {
    let kind = match problem.kind {
        ProblemKind::Unauthorized => "authentication_error",
        ProblemKind::Forbidden => "permission_error",
        ProblemKind::Invalid | ProblemKind::Refused => "invalid_request_error",
        ProblemKind::Missing => "not_found_error",
        ProblemKind::Overloaded => "rate_limit_error",
        ProblemKind::Busy => "overloaded_error",
        ProblemKind::Down | ProblemKind::Fault => "api_error",
    };
    let ErrorDetail { message, code, param, .. } = error_body(problem).error;
    let error = MessagesErrorDetail { kind: kind.to_owned(), message, code, param };
    MessagesError { kind: "error".to_owned(), error }
}

/// The problem in the chat-completions protocol's shape.
pub(crate) fn error_body(problem: &Problem) -> ErrorBody {
    let error_type = match problem.kind {
        ProblemKind::Unauthorized => "authentication_error",
        ProblemKind::Invalid | ProblemKind::Missing | ProblemKind::Forbidden => {
            "invalid_request_error"
        }
        ProblemKind::Overloaded => "rate_limit_error",
        ProblemKind::Refused | ProblemKind::Busy | ProblemKind::Down | ProblemKind::Fault => {
            "server_error"
        }
    };
    let commands = problem.ways.iter().map(|way| way.command.clone());
    let ways: Vec<String> = problem.way_out.iter().cloned().chain(commands).collect();
    let message = match ways.is_empty() {
        true => problem.detail.clone(),
        false => format!("{} ({})", problem.detail, ways.join(" ")),
    };
    ErrorBody {
        error: ErrorDetail {
            message,
            error_type: error_type.to_owned(),
            code: usual_code(&problem.code).to_owned(),
            param: problem.field.clone(),
        },
    }
}

/// The code under which clients of the protocol look for a problem.
fn usual_code(code: &str) -> &str {
    match code {
        "context_exceeded" => "context_length_exceeded",
        "no_model" => "model_not_found",
        other => other,
    }
}

/// A refusal before any route was chosen, in the shape of the path's protocol.
pub(crate) fn refusal(path: &str, problem: &Problem) -> HttpResponse {
    match path {
        path if path.starts_with(MESSAGES_PATH) => messages_response(problem),
        path if path.starts_with(CHAT_PATHS) => chat_response(problem),
        _ => manage_response(problem),
    }
}

/// Status and body of a refused call of this path.
pub(crate) fn status_and_body(path: &str, problem: &Problem) -> (u16, Value) {
    let body = match path {
        path if path.starts_with(MESSAGES_PATH) => serde_json::to_value(messages_error(problem)),
        _ => serde_json::to_value(error_body(problem)),
    };
    (chat_status(problem).as_u16(), body.unwrap_or_default())
}

/// Bodies up to this length are always read.
const SHORT_BODY: usize = 64 << 10;
/// Most bytes of longer bodies that are held at once, in pieces of [`SHORT_BODY`].
const LONG_BODIES: usize = (128 << 20) / SHORT_BODY;
/// A sender that sends nothing of its body for so long is given up, and one that sends slowly after a while.
const SILENT: Duration = Duration::from_secs(10);
const SLOW: Duration = Duration::from_secs(60);

static LONG: Semaphore = Semaphore::const_new(LONG_BODIES);

/// The bytes of a request; one that is too large, too slow or breaks off is refused in our shape. Long ones
/// are held by as many as there is memory for.
pub(crate) struct Body(pub(crate) web::Bytes, #[expect(dead_code, reason = "held")] Vec<Held>);

type Held = SemaphorePermit<'static>;

impl FromRequest for Body {
    type Error = actix_web::Error;
    type Future = LocalBoxFuture<'static, Result<Self, Self::Error>>;

    fn from_request(request: &HttpRequest, payload: &mut Payload) -> Self::Future {
        let path = request.path().to_owned();
        let announced =
            request.headers().get(CONTENT_LENGTH).and_then(|announced| announced.to_str().ok());
        let announced: Option<usize> = announced.and_then(|announced| announced.parse().ok());
        let payload = payload.take();
        Box::pin(async move {
            let read = tokio::time::timeout(SLOW, read_body(payload, announced)).await;
            let read = read.unwrap_or_else(|_| Err(unreadable("it arrives too slowly")));
            read.map_err(|problem| match &path {
                path if path.starts_with(MESSAGES_PATH) => MessagesProblem(problem).into(),
                path if path.starts_with(CHAT_PATHS) => ChatError(problem).into(),
                _ => ManageError(problem).into(),
            })
        })
    }
}

fn unreadable(why: impl fmt::Display) -> Problem {
    let what = format!("the body is refused ({why}); at most {MAX_BODY} bytes are allowed");
    Problem::new(ProblemKind::Invalid, "body_unreadable", what)
}

async fn read_body(mut payload: Payload, announced: Option<usize>) -> Result<Body, Problem> {
    if announced.is_some_and(|announced| announced > MAX_BODY) {
        return Err(unreadable("it is too long"));
    }
    let (mut bytes, mut held) = (web::BytesMut::new(), Vec::new());
    loop {
        let piece = tokio::time::timeout(SILENT, payload.next()).await;
        let piece = piece.map_err(|_| unreadable("it is incomplete"))?;
        let Some(piece) = piece else {
            return Ok(Body(bytes.freeze(), held));
        };
        let piece = piece.map_err(unreadable)?;
        if bytes.len() + piece.len() > MAX_BODY {
            return Err(unreadable("it is too long"));
        }
        bytes.extend_from_slice(&piece);
        while held.len() < bytes.len() / SHORT_BODY {
            held.push(LONG.try_acquire().map_err(|_| {
                let detail = "too many long requests at once";
                Problem::new(ProblemKind::Overloaded, "many_long_requests", detail)
                    .with_way_out("retry in a moment")
            })?);
        }
    }
}

/// Reads a JSON body; the field at fault is named.
pub(crate) fn body<T: serde::de::DeserializeOwned>(bytes: &[u8]) -> Result<T, Problem> {
    let invalid = |field: Option<String>, error: &serde_json::Error| {
        let place = field.as_ref().map_or_else(String::new, |field| format!("field `{field}`: "));
        let what = format!("the body is not valid: {place}{error}");
        let problem = Problem::new(ProblemKind::Invalid, "body_invalid", what);
        Problem { field, ..problem }
    };
    let mut reader = serde_json::Deserializer::from_slice(bytes);
    let read = serde_path_to_error::deserialize(&mut reader).map_err(|error| {
        let field = error.path().to_string();
        invalid(Some(field).filter(|field| field != "."), error.inner())
    })?;
    reader.end().map_err(|error| invalid(None, &error))?;
    super::renamed::warn(bytes);
    Ok(read)
}

pub(crate) fn query_config() -> web::QueryConfig {
    web::QueryConfig::default().error_handler(|error, request| malformed(&error, request))
}

pub(crate) fn path_config() -> web::PathConfig {
    web::PathConfig::default().error_handler(|error, request| malformed(&error, request))
}

fn malformed(error: &dyn fmt::Display, request: &HttpRequest) -> actix_web::Error {
    let detail = format!("`{}` is not valid: {error}", request.uri());
    let problem = Problem::new(ProblemKind::Invalid, "address_invalid", detail);
    let response = refusal(request.path(), &problem);
    InternalError::from_response(problem, response).into()
}

fn no_route(request: &HttpRequest) -> Problem {
    let detail = format!("`{} {}` does not exist", request.method(), request.path());
    Problem::new(ProblemKind::Missing, "no_route", detail)
        .with_way_out("list all paths: GET /manage/v1/openapi.json")
}

/// A path without a route, in the shape of its protocol.
pub(crate) async fn unknown_path(request: HttpRequest) -> HttpResponse {
    refusal(request.path(), &no_route(&request))
}

#[cfg(test)]
mod tests {
    use actix_web::body::to_bytes;
    use serde::Deserialize;

    use super::*;

    async fn written(response: HttpResponse) -> (u16, Option<String>, Value) {
        let retry = response.headers().get("retry-after");
        let retry = retry.and_then(|value| value.to_str().ok()).map(str::to_owned);
        let status = response.status().as_u16();
        let bytes = to_bytes(response.into_body()).await.unwrap_or_default();
        (status, retry, serde_json::from_slice(&bytes).unwrap_or_default())
    }

    #[actix_web::test]
    async fn each_protocol_has_its_own_shape() {
        let problem = Problem::new(ProblemKind::Missing, "no_model", "there is no model `dsk`")
            .with_way_out("did you mean `desk`?");
        let (status, _, body) = written(refusal("/v1/chat/completions", &problem)).await;
        assert_eq!(status, 404);
        let error = &body["error"];
        assert_eq!(error["message"], "there is no model `dsk` (did you mean `desk`?)");
        assert_eq!(error["type"], "invalid_request_error");
        let (status, _, body) = written(refusal("/manage/v1/depot/dsk", &problem)).await;
        assert_eq!((status, &body["code"]), (404, &Value::from("no_model")));
        assert_eq!(body["way_out"], "did you mean `desk`?");
        let (status, _, body) = written(refusal("/v1/messages", &problem)).await;
        assert_eq!((status, &body["type"]), (404, &Value::from("error")));
        assert_eq!(body["error"]["type"], "not_found_error");
    }

    #[actix_web::test]
    async fn clients_retry_what_may_succeed_later_and_nothing_else() {
        for (kind, code, expected) in [
            (ProblemKind::Busy, "draining", (503, Some("2"), "true")),
            (ProblemKind::Overloaded, "queue_full", (429, Some("2"), "true")),
            (ProblemKind::Refused, "ends_engines", (422, None, "false")),
            (ProblemKind::Fault, "engine_ended", (500, None, "false")),
        ] {
            let response = refusal("/v1/chat/completions", &Problem::new(kind, code, "because"));
            let retries = response.headers().get(SHOULD_RETRY).cloned().unwrap();
            let (status, after, _) = written(response).await;
            assert_eq!((status, after.as_deref(), retries.to_str().unwrap()), expected, "{code}");
        }
        let refused = Problem::new(ProblemKind::Refused, "does_not_fit", "it is too large");
        assert_eq!(written(refusal("/manage/v1/plans", &refused)).await.0, 409);
    }

    #[derive(Debug, Deserialize)]
    struct Ask {
        #[expect(dead_code, reason = "only its reading is tried")]
        settings: Inner,
    }

    #[derive(Debug, Deserialize)]
    struct Inner {
        #[expect(dead_code, reason = "only its reading is tried")]
        lanes: u32,
    }

    #[test]
    fn the_field_at_fault_is_named() {
        let problem = |text: &str| body::<Ask>(text.as_bytes()).unwrap_err().detail;
        let detail = problem(r#"{"settings": {"lanes": "two"}}"#);
        assert!(detail.contains("field `settings.lanes`"), "{detail}");
        assert!(problem("{\"settings\":").contains("not valid"));
        assert!(problem("{}").contains("settings"));
        let more = problem(r#"{"settings": {"lanes": 2}} {"settings": {"lanes": 3}}"#);
        assert!(more.contains("trailing characters"), "{more}");
    }
}
