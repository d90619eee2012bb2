//! Server-sent events.

use std::convert::Infallible;
use std::pin::Pin;
use std::time::Duration;

use actix_web::HttpResponse;
use bytes::Bytes;
use deft_protocol::Problem;
use deft_protocol::chat::{Figures, Usage};
use deft_protocol::engine::{Part, TokenScore};
use futures_util::Stream;
use serde::Serialize;
use tokio::time::timeout;

use super::respond::error_body;
use crate::answering::gateway::{Answers, Piece};

/// The last event of an answer in the chat-completions protocol.
const END: &[u8] = b"data: [DONE]\n\n";

/// One event with JSON data.
pub(super) fn event(data: &impl Serialize) -> Bytes {
    // The types on the wire have nothing that JSON cannot say.
    let json = serde_json::to_string(data).unwrap_or_default();
    Bytes::from(format!("data: {json}\n\n"))
}

/// One event with a name.
pub(super) fn named_event(name: &str, data: &impl Serialize) -> Bytes {
    [format!("event: {name}\n").as_bytes(), &event(data)].concat().into()
}

/// The end of a stream of the chat-completions protocol, after its last event.
pub(super) fn ended(last: Option<Bytes>) -> Bytes {
    [&last.unwrap_or_default()[..], END].concat().into()
}

/// A response that streams events.
pub(super) fn response(
    events: impl Stream<Item = Result<Bytes, Infallible>> + 'static,
) -> HttpResponse {
    HttpResponse::Ok()
        .content_type("text/event-stream")
        .insert_header(("cache-control", "no-cache"))
        .streaming(events)
}

/// How answers are written as events.
pub(super) trait Written: 'static {
    /// Before all text.
    fn first(&mut self, answer: &Answers) -> Bytes;
    /// A piece of one of the answers, with its tokens if requested.
    fn text(
        &mut self,
        answer: &Answers,
        index: u32,
        text: (Part, String),
        scores: Vec<TokenScore>,
    ) -> Bytes;
    /// A tool call of one of the answers begins.
    fn tool_call(&mut self, answer: &Answers, index: u32, call: u32, name: String) -> Bytes;
    /// One of the answers is complete.
    fn ended(&mut self, answer: &Answers, index: u32, figures: Figures) -> Bytes;
    /// All are; with the end of the stream.
    fn done(&mut self, answer: &Answers, usage: Usage) -> Bytes;
    /// The answer failed after the status was sent; with the end of the stream.
    fn failed(&mut self, problem: &Problem) -> Bytes {
        ended(Some(event(&error_body(problem))))
    }
}

/// Keeps the connection of a waiting caller alive.
pub(super) struct Patience {
    /// Longest time that the status of an answer in one piece is held back, so that a failure has its own.
    pub(super) status: Duration,
    /// Longest silence before a comment with the call's stage is sent.
    pub(super) every: Duration,
    pub(super) standing: Box<dyn Fn() -> String>,
}

/// Answers whose first prompt is about to be accepted.
pub(super) type Begun = Pin<Box<dyn Future<Output = Result<Answers, Problem>>>>;

/// What a stream is at.
enum At {
    /// The prompt is not accepted yet.
    Begun(Begun),
    /// No part of the answer has been sent.
    First(Box<Answers>),
    Going(Box<Answers>),
}

/// Answers as a stream of events that ends as the chat-completions protocol says.
///
/// # Errors
/// The error of a call without an answer, if it is known soon. A later error is in the stream, in the protocol's
/// shape, for the status is sent by then.
pub(super) async fn answer(
    mut begun: Begun,
    patience: Patience,
    written: impl Written,
) -> Result<HttpResponse, Problem> {
    let at = match timeout(patience.every, &mut begun).await {
        Ok(answer) => At::First(Box::new(answer?)),
        Err(_) => At::Begun(begun),
    };
    let start = (Some(at), written);
    Ok(response(futures_util::stream::unfold(
        (start, patience),
        |((at, mut written), patience)| async move {
            let (bytes, next) = step(at?, &patience, &mut written).await;
            Some((Ok(bytes), ((next, written), patience)))
        },
    )))
}

/// The next words to a caller, and what comes after them.
async fn step(at: At, patience: &Patience, written: &mut impl Written) -> (Bytes, Option<At>) {
    // A comment, as the format of events has it: callers' libraries pass over it.
    let comment = || Bytes::from(format!(": {}\n\n", (patience.standing)()));
    match at {
        At::Begun(mut begun) => match timeout(patience.every, &mut begun).await {
            Err(_) => (comment(), Some(At::Begun(begun))),
            Ok(Ok(answer)) => (written.first(&answer), Some(At::Going(Box::new(answer)))),
            Ok(Err(problem)) => (written.failed(&problem), None),
        },
        At::First(answer) => (written.first(&answer), Some(At::Going(answer))),
        At::Going(mut answer) => {
            let Ok(piece) = timeout(patience.every, answer.next()).await else {
                return (comment(), Some(At::Going(answer)));
            };
            let bytes = match piece {
                Piece::Text { answer: index, part, text, scores } => {
                    written.text(&answer, index, (part, text), scores)
                }
                Piece::ToolCall { answer: index, index: call, name } => {
                    written.tool_call(&answer, index, call, name)
                }
                Piece::Ended { answer: index, figures } => written.ended(&answer, index, figures),
                Piece::Done(usage) => return (written.done(&answer, usage), None),
                Piece::Failed(problem) => return (written.failed(&problem), None),
            };
            (bytes, Some(At::Going(answer)))
        }
    }
}

/// A response in one piece of JSON. Its status is held back while it can still be that of a failure, for so
/// long as callers usually wait; then its caller gets white space now and then, which JSON has no meaning for.
///
/// # Errors
/// As [`answer`]; later the error is the body.
pub(super) async fn whole<T: Serialize + 'static>(
    made: impl Future<Output = Result<T, Problem>> + 'static,
    patience: &Patience,
) -> Result<HttpResponse, Problem> {
    whole_or(made, patience, error_body).await
}

/// A response as [`whole`], with late errors in another shape.
///
/// # Errors
/// As [`whole`].
pub(super) async fn whole_or<T: Serialize + 'static, E: Serialize + 'static>(
    made: impl Future<Output = Result<T, Problem>> + 'static,
    patience: &Patience,
    error_body: fn(&Problem) -> E,
) -> Result<HttpResponse, Problem> {
    let Patience { status, every, .. } = *patience;
    let mut made = Box::pin(made);
    if let Ok(made) = timeout(status, &mut made).await {
        return Ok(HttpResponse::Ok().json(made?));
    }
    let first = (Some(made), true);
    let body = futures_util::stream::unfold(first, move |(made, is_first)| async move {
        let mut made = made?;
        if is_first {
            return Some((Ok::<_, Infallible>(Bytes::from_static(b" ")), (Some(made), false)));
        }
        Some(match timeout(every, &mut made).await {
            Err(_) => (Ok(Bytes::from_static(b" ")), (Some(made), false)),
            Ok(Ok(made)) => (Ok(json(&made)), (None, false)),
            Ok(Err(problem)) => (Ok(json(&error_body(&problem))), (None, false)),
        })
    });
    Ok(HttpResponse::Ok().content_type("application/json").streaming(body))
}

fn json(value: &impl Serialize) -> Bytes {
    // The types on the wire have nothing that JSON cannot say.
    serde_json::to_vec(value).unwrap_or_default().into()
}
