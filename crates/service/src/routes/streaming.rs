//! Server-sent events.

use std::convert::Infallible;

use actix_web::HttpResponse;
use bytes::Bytes;
use deft_protocol::chat::{Figures, Usage};
use futures_util::Stream;
use serde::Serialize;

use super::respond::error_body;
use crate::gateway::{Answer, Piece};

/// One event with JSON data.
pub(super) fn event(data: &impl Serialize) -> Bytes {
    // The types on the wire have nothing that JSON cannot say.
    let json = serde_json::to_string(data).unwrap_or_default();
    Bytes::from(format!("data: {json}\n\n"))
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

/// How an answer is written as events.
pub(super) trait Written: 'static {
    /// Before all text.
    fn first(&self, answer: &Answer) -> Bytes;
    /// A piece of text.
    fn text(&self, answer: &Answer, text: String) -> Bytes;
    /// After all text.
    fn last(&self, answer: &Answer, usage: Usage, figures: Figures) -> Bytes;
}

/// An answer as a stream of events that ends as the chat-completions protocol says. An error comes
/// in the stream, in the protocol's shape, for the status is sent already.
pub(super) fn answer(answer: Answer, written: impl Written) -> HttpResponse {
    const END: &[u8] = b"data: [DONE]\n\n";
    let first = written.first(&answer);
    let start = (Some(answer), Some(first), written);
    response(futures_util::stream::unfold(start, |(answer, first, written)| async move {
        let mut answer = answer?;
        if let Some(first) = first {
            return Some((Ok(first), (Some(answer), None, written)));
        }
        let (bytes, goes_on) = match answer.next().await {
            Piece::Text(text) => (written.text(&answer, text), true),
            Piece::Done(usage, figures) => {
                let last = written.last(&answer, usage, figures);
                ([&last[..], END].concat().into(), false)
            }
            Piece::Failed(problem) => {
                let error = event(&error_body(&problem));
                ([&error[..], END].concat().into(), false)
            }
        };
        Some((Ok(bytes), (goes_on.then_some(answer), None, written)))
    }))
}
