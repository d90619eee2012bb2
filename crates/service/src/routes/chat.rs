//! `POST /v1/chat/completions`.

use actix_web::{HttpResponse, post, web};
use bytes::Bytes;
use deft_protocol::chat::{
    AnswerMessage, AnswerOptions, ChatChoice, ChatChunk, ChatHead, ChatResponse, ChunkChoice,
    Delta, ErrorBody, Figures, FinishReason, Usage,
};
use deft_protocol::engine::Prompt;
use deft_protocol::{Problem, ProblemKind};
use serde_json::{Map, Value};

use super::App;
use super::respond::{Body, ChatError, body};
use super::streaming::{self, Written};
use crate::gateway::Answer;

/// Answers a conversation, whole or as a stream of server-sent events.
#[utoipa::path(
    tag = "answers",
    request_body = deft_protocol::chat::ChatRequest,
    responses(
        (status = 200, description = "The answer; a stream of chunks where `stream` is true", body = ChatResponse),
        (status = "default", description = "Why there is none", body = ErrorBody),
    )
)]
#[post("/v1/chat/completions")]
pub(super) async fn complete_chat(
    app: web::Data<App>,
    bytes: Body,
) -> Result<HttpResponse, ChatError> {
    let head: ChatHead = body(&bytes.0)?;
    let options: AnswerOptions = body(&bytes.0)?;
    let streams = options.stream.unwrap_or(false);
    let counts = options.stream_options.unwrap_or_default().include_usage;
    let answer = app.gateway.answer(&head.model, prompt(&head)?, options).await?;
    if streams {
        return Ok(streaming::answer(answer, Chunks { counts }));
    }
    Ok(HttpResponse::Ok().json(whole(answer).await?))
}

/// The conversation as the template gets it.
fn prompt(head: &ChatHead) -> Result<Prompt, Problem> {
    if head.messages.is_empty() {
        let detail = "`messages` is empty";
        return Err(Problem::new(ProblemKind::Invalid, "messages_empty", detail));
    }
    let message = |message| match serde_json::to_value(message) {
        Ok(Value::Object(map)) => map,
        _ => Map::new(),
    };
    let messages = head.messages.iter().map(message).collect();
    Ok(Prompt::Chat { messages, tools: head.tools.clone() })
}

async fn whole(mut answer: Answer) -> Result<ChatResponse, Problem> {
    let (content, usage, deft) = answer.whole().await?;
    Ok(ChatResponse {
        id: id(&answer),
        object: "chat.completion".to_owned(),
        created: answer.created(),
        model: answer.model().to_owned(),
        choices: vec![ChatChoice {
            index: 0,
            message: AnswerMessage { role: "assistant".to_owned(), content },
            finish_reason: deft.ended_by.finish_reason(),
        }],
        usage,
        deft,
    })
}

fn id(answer: &Answer) -> String {
    format!("chat-{}", answer.id.simple())
}

fn chunk(answer: &Answer, delta: Delta, finish_reason: Option<FinishReason>) -> ChatChunk {
    ChatChunk {
        id: id(answer),
        object: "chat.completion.chunk".to_owned(),
        created: answer.created(),
        model: answer.model().to_owned(),
        choices: vec![ChunkChoice { index: 0, delta, finish_reason }],
        usage: None,
        deft: None,
    }
}

/// A chat answer as chunks.
struct Chunks {
    /// Whether a last chunk tells the token counts.
    counts: bool,
}

impl Written for Chunks {
    fn first(&self, answer: &Answer) -> Bytes {
        let role = Delta { role: Some("assistant".to_owned()), content: Some(String::new()) };
        streaming::event(&chunk(answer, role, None))
    }

    fn text(&self, answer: &Answer, text: String) -> Bytes {
        let delta = Delta { role: None, content: Some(text) };
        streaming::event(&chunk(answer, delta, None))
    }

    fn last(&self, answer: &Answer, usage: Usage, figures: Figures) -> Bytes {
        let reason = figures.ended_by.finish_reason();
        let last =
            ChatChunk { deft: Some(figures), ..chunk(answer, Delta::default(), Some(reason)) };
        let last = streaming::event(&last);
        if !self.counts {
            return last;
        }
        let empty = chunk(answer, Delta::default(), None);
        let counted = ChatChunk { choices: Vec::new(), usage: Some(usage), ..empty };
        [last, streaming::event(&counted)].concat().into()
    }
}
