//! `POST /v1/chat/completions`.

use std::convert::Infallible;

use actix_web::{HttpResponse, post, web};
use bytes::Bytes;
use deft_protocol::chat::{
    AnswerMessage, AnswerOptions, ChatChoice, ChatChunk, ChatHead, ChatResponse, ChunkChoice,
    Delta, ErrorBody, Figures, FinishReason, Usage,
};
use deft_protocol::engine::Prompt;
use deft_protocol::{Problem, ProblemKind};
use futures_util::Stream;
use serde_json::{Map, Value};

use super::respond::{Body, ChatError, body, error_body};
use super::{App, streaming};
use crate::gateway::{Answer, Piece};

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
    let stream = options.stream.unwrap_or(false);
    let counts = options.stream_options.unwrap_or_default().include_usage;
    let answer = app
        .gateway
        .answer(&head.model, prompt(&head)?, options)
        .await?;
    if stream {
        return Ok(streaming::response(chunks(answer, counts)));
    }
    whole(answer)
        .await
        .map(|answer| HttpResponse::Ok().json(answer))
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
    Ok(Prompt::Chat {
        messages,
        tools: head.tools.clone(),
    })
}

async fn whole(mut answer: Answer) -> Result<ChatResponse, ChatError> {
    let mut text = String::new();
    let (usage, deft) = loop {
        match answer.next().await {
            Piece::Text(piece) => text.push_str(&piece),
            Piece::Done(usage, figures) => break (usage, figures),
            Piece::Failed(problem) => return Err(problem.into()),
        }
    };
    Ok(ChatResponse {
        id: id(&answer),
        object: "chat.completion".to_owned(),
        created: answer.created(),
        model: answer.model().to_owned(),
        choices: vec![ChatChoice {
            index: 0,
            message: AnswerMessage {
                role: "assistant".to_owned(),
                content: text,
            },
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
        choices: vec![ChunkChoice {
            index: 0,
            delta,
            finish_reason,
        }],
        usage: None,
        deft: None,
    }
}

fn chunks(answer: Answer, counts: bool) -> impl Stream<Item = Result<Bytes, Infallible>> {
    let role = Delta {
        role: Some("assistant".to_owned()),
        content: Some(String::new()),
    };
    let first = streaming::event(&chunk(&answer, role, None));
    futures_util::stream::unfold(
        (Some(answer), Some(first)),
        move |(answer, first)| async move {
            if let Some(first) = first {
                return Some((Ok(first), (answer, None)));
            }
            let mut answer = answer?;
            let (bytes, goes_on) = match answer.next().await {
                Piece::Text(text) => {
                    let delta = Delta {
                        role: None,
                        content: Some(text),
                    };
                    (streaming::event(&chunk(&answer, delta, None)), true)
                }
                Piece::Done(usage, figures) => {
                    (last_chunks(&answer, usage, figures, counts), false)
                }
                Piece::Failed(problem) => {
                    // The status is sent already: the error comes in the stream, in the protocol's shape.
                    let error = streaming::event(&error_body(&problem));
                    ([error, streaming::last_event()].concat().into(), false)
                }
            };
            Some((Ok(bytes), (goes_on.then_some(answer), None)))
        },
    )
}

fn last_chunks(answer: &Answer, usage: Usage, figures: Figures, counts: bool) -> Bytes {
    let reason = figures.ended_by.finish_reason();
    let last = ChatChunk {
        deft: Some(figures),
        ..chunk(answer, Delta::default(), Some(reason))
    };
    let mut events = vec![streaming::event(&last)];
    if counts {
        let empty = chunk(answer, Delta::default(), None);
        let counted = ChatChunk {
            choices: Vec::new(),
            usage: Some(usage),
            ..empty
        };
        events.push(streaming::event(&counted));
    }
    events.push(streaming::last_event());
    events.concat().into()
}
