//! Server-sent events.

use actix_web::HttpResponse;
use bytes::Bytes;
use futures_util::Stream;
use serde::Serialize;

/// One event with JSON data.
pub(super) fn event(data: &impl Serialize) -> Bytes {
    // The types on the wire have nothing that JSON cannot say.
    let json = serde_json::to_string(data).unwrap_or_default();
    Bytes::from(format!("data: {json}\n\n"))
}

/// The event that ends a stream of the chat-completions protocol.
pub(super) fn last_event() -> Bytes {
    Bytes::from_static(b"data: [DONE]\n\n")
}

/// A response that streams events.
pub(super) fn response(
    events: impl Stream<Item = Result<Bytes, std::convert::Infallible>> + 'static,
) -> HttpResponse {
    HttpResponse::Ok()
        .content_type("text/event-stream")
        .insert_header(("cache-control", "no-cache"))
        .streaming(events)
}
