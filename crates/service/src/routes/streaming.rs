//! Server-sent events.

use std::convert::Infallible;

use actix_web::HttpResponse;
use bytes::Bytes;
use deft_protocol::chat::{Figures, Usage};
use deft_protocol::engine::TokenScore;
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

/// How answers are written as events.
pub(super) trait Written: 'static {
    /// Before all text.
    fn first(&mut self, answer: &Answer) -> Bytes;
    /// A piece of text of one of the answers, with its tokens where they were asked for.
    fn text(&mut self, answer: &Answer, index: u32, text: String, scores: Vec<TokenScore>)
    -> Bytes;
    /// One of the answers is complete.
    fn ended(&mut self, answer: &Answer, index: u32, figures: Figures) -> Bytes;
    /// All are.
    fn done(&mut self, answer: &Answer, usage: Usage) -> Option<Bytes>;
}

/// Answers as a stream of events that ends as the chat-completions protocol says. An error comes in
/// the stream, in the protocol's shape, for the status is sent already.
pub(super) fn answer(answer: Answer, mut written: impl Written) -> HttpResponse {
    const END: &[u8] = b"data: [DONE]\n\n";
    let first = written.first(&answer);
    let start = (Some(answer), Some(first), written);
    response(futures_util::stream::unfold(start, |(answer, first, mut written)| async move {
        let mut answer = answer?;
        if let Some(first) = first {
            return Some((Ok(first), (Some(answer), None, written)));
        }
        let (bytes, goes_on) = match answer.next().await {
            Piece::Text { answer: index, text, scores } => {
                (written.text(&answer, index, text, scores), true)
            }
            Piece::Ended { answer: index, figures } => {
                (written.ended(&answer, index, figures), true)
            }
            Piece::Done(usage) => {
                let last = written.done(&answer, usage).unwrap_or_default();
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
