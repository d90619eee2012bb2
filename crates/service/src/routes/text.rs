//! `POST /v1/completions`: continues a text without a template.

use std::convert::Infallible;

use actix_web::{HttpResponse, post, web};
use bytes::Bytes;
use deft_protocol::chat::{
    AnswerOptions, ErrorBody, FinishReason, TextChoice, TextHead, TextResponse,
};
use deft_protocol::engine::Prompt;
use futures_util::Stream;

use super::respond::{Body, ChatError, body, error_body};
use super::{App, streaming};
use crate::gateway::{Answer, Piece};

/// Continues a text, whole or as a stream of server-sent events.
#[utoipa::path(
    tag = "answers",
    request_body = deft_protocol::chat::TextRequest,
    responses(
        (status = 200, description = "The continuation; a stream where `stream` is true", body = TextResponse),
        (status = "default", description = "Why there is none", body = ErrorBody),
    )
)]
#[post("/v1/completions")]
pub(super) async fn continue_text(
    app: web::Data<App>,
    bytes: Body,
) -> Result<HttpResponse, ChatError> {
    let head: TextHead = body(&bytes.0)?;
    let options: AnswerOptions = body(&bytes.0)?;
    let stream = options.stream.unwrap_or(false);
    let counts = options.stream_options.unwrap_or_default().include_usage;
    let mut answer = app
        .gateway
        .answer(&head.model, Prompt::Text(head.prompt), options)
        .await?;
    if stream {
        return Ok(streaming::response(pieces(answer, counts)));
    }
    let mut text = String::new();
    loop {
        match answer.next().await {
            Piece::Text(piece) => text.push_str(&piece),
            Piece::Failed(problem) => return Err(problem.into()),
            Piece::Done(usage, figures) => {
                let reason = figures.ended_by.finish_reason();
                let mut response = response(&answer, text, Some(reason));
                (response.usage, response.deft) = (Some(usage), Some(figures));
                return Ok(HttpResponse::Ok().json(response));
            }
        }
    }
}

fn response(answer: &Answer, text: String, finish_reason: Option<FinishReason>) -> TextResponse {
    TextResponse {
        id: format!("text-{}", answer.id.simple()),
        object: "text_completion".to_owned(),
        created: answer.created(),
        model: answer.model().to_owned(),
        choices: vec![TextChoice {
            index: 0,
            text,
            finish_reason,
        }],
        usage: None,
        deft: None,
    }
}

fn pieces(answer: Answer, counts: bool) -> impl Stream<Item = Result<Bytes, Infallible>> {
    futures_util::stream::unfold(Some(answer), move |answer| async move {
        let mut answer = answer?;
        let (bytes, goes_on) = match answer.next().await {
            Piece::Text(text) => (streaming::event(&response(&answer, text, None)), true),
            Piece::Failed(problem) => {
                let error = streaming::event(&error_body(&problem));
                ([error, streaming::last_event()].concat().into(), false)
            }
            Piece::Done(usage, figures) => {
                let reason = Some(figures.ended_by.finish_reason());
                let mut last = response(&answer, String::new(), reason);
                last.deft = Some(figures);
                last.usage = counts.then_some(usage);
                let events = [streaming::event(&last), streaming::last_event()];
                (events.concat().into(), false)
            }
        };
        Some((Ok(bytes), goes_on.then_some(answer)))
    })
}
