//! `POST /v1/completions`: continues a text without a template.

use actix_web::{HttpResponse, post, web};
use bytes::Bytes;
use deft_protocol::chat::{
    AnswerOptions, ErrorBody, Figures, FinishReason, TextChoice, TextHead, TextResponse, Usage,
};
use deft_protocol::engine::Prompt;

use super::App;
use super::respond::{Body, ChatError, body};
use super::streaming::{self, Written};
use crate::gateway::Answer;

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
    let streams = options.stream.unwrap_or(false);
    let counts = options.stream_options.unwrap_or_default().include_usage;
    let mut answer = app.gateway.answer(&head.model, Prompt::Text(head.prompt), options).await?;
    if streams {
        return Ok(streaming::answer(answer, Pieces { counts }));
    }
    let (text, usage, figures) = answer.whole().await?;
    let mut response = response(&answer, text, Some(figures.ended_by.finish_reason()));
    (response.usage, response.deft) = (Some(usage), Some(figures));
    Ok(HttpResponse::Ok().json(response))
}

fn response(answer: &Answer, text: String, finish_reason: Option<FinishReason>) -> TextResponse {
    TextResponse {
        id: format!("text-{}", answer.id.simple()),
        object: "text_completion".to_owned(),
        created: answer.created(),
        model: answer.model().to_owned(),
        choices: vec![TextChoice { index: 0, text, finish_reason }],
        usage: None,
        deft: None,
    }
}

/// A continuation in pieces.
struct Pieces {
    /// Whether the last piece tells the token counts.
    counts: bool,
}

impl Written for Pieces {
    fn first(&self, answer: &Answer) -> Bytes {
        self.text(answer, String::new())
    }

    fn text(&self, answer: &Answer, text: String) -> Bytes {
        streaming::event(&response(answer, text, None))
    }

    fn last(&self, answer: &Answer, usage: Usage, figures: Figures) -> Bytes {
        let reason = figures.ended_by.finish_reason();
        let mut last = response(answer, String::new(), Some(reason));
        (last.deft, last.usage) = (Some(figures), self.counts.then_some(usage));
        streaming::event(&last)
    }
}
