//! `POST /v1/chat/completions`.

use std::collections::BTreeSet;

use actix_web::web::Data;
use actix_web::{HttpResponse, post};
use bytes::Bytes;
use deft_protocol::Problem;
use deft_protocol::StreamEvent;
use deft_protocol::chat::{
    AnswerMessage, AnswerOptions, ChatChoice, ChatChunk, ChatHead, ChatLogprobs, ChatResponse,
    ChunkChoice, Delta, ErrorBody, Figures, FinishReason, Usage,
};
use deft_protocol::engine::{Part, TokenScore};
use deft_protocol::tools::{FunctionCall, FunctionKind, FunctionPiece, ToolCall, ToolCallPiece};

use super::caller::Caller;
use super::conversation::question;
use super::fields;
use super::respond::{Body, ChatError, body};
use super::segments::call_id;
use super::streaming::{self, Written};
use super::{App, Beginning};
use crate::answering::gateway::{Answers, Whole, check_answers};

/// Answers a conversation, as one response or as server-sent events.
#[utoipa::path(
    tag = "answers",
    request_body(content = deft_protocol::chat::ChatRequest, example = json!({"model": "larkfen-desk", "messages": [{"role": "user", "content": "How deep do I sow Moonhook bean?"}], "max_tokens": 60})),
    responses(
        (status = 200, description = "The answer; a stream of chunks where `stream` is true", content(
            (ChatResponse = "application/json"),
            (StreamEvent = "text/event-stream"),
        )),
        (status = "default", description = "The error", body = ErrorBody),
    )
)]
#[post("/v1/chat/completions")]
pub(super) async fn complete_chat(
    app: Data<App>,
    caller: Caller,
    bytes: Body,
) -> Result<HttpResponse, ChatError> {
    let (begun, patience, options) = begin(&app, &caller, &bytes.0)?;
    let counts = options.stream_options.unwrap_or_default().include_usage;
    if options.stream.unwrap_or(false) {
        return Ok(streaming::answer(
            begun,
            patience,
            Chunks { counts, with_calls: BTreeSet::new() },
        )
        .await?);
    }
    Ok(streaming::whole(async { whole(begun.await?).await }, &patience).await?)
}

/// Checks a request and begins to answer it.
fn begin(app: &Data<App>, caller: &Caller, bytes: &[u8]) -> Result<Beginning, Problem> {
    let head: ChatHead = body(bytes)?;
    fields::check(bytes, "ChatRequest")?;
    let options: AnswerOptions = body(bytes)?;
    let question = question(&head)?;
    check_answers(&options, 1)?;
    let (call, patience) = app.arrive(&head.model, caller);
    let begun = app.begin(call, head.model, question, &options);
    let begun = Answers::begin(vec![begun], options.n.unwrap_or(1));
    Ok((Box::pin(begun), patience, options))
}

/// Answers a call of a batch.
///
/// # Errors
/// As the route.
pub(super) async fn answer(
    app: &Data<App>,
    caller: &Caller,
    bytes: &[u8],
) -> Result<ChatResponse, Problem> {
    let (begun, ..) = begin(app, caller, bytes)?;
    whole(begun.await?).await
}

async fn whole(mut answer: Answers) -> Result<ChatResponse, Problem> {
    let (answers, usage) = answer.whole().await?;
    let choice = |(index, whole): (u32, Whole)| {
        let figures = whole.figures?;
        Some(ChatChoice {
            index,
            finish_reason: finish_reason(&figures, !whole.calls.is_empty()),
            logprobs: ChatLogprobs::of(whole.scores),
            message: message(whole.text, whole.reasoning, whole.calls),
            deft: figures,
        })
    };
    Ok(ChatResponse {
        id: id(&answer),
        object: "chat.completion".to_owned(),
        created: answer.created(),
        model: answer.model().to_owned(),
        choices: (0..).zip(answers).filter_map(choice).collect(),
        usage,
    })
}

/// The reason in the protocol's words. An answer that a limit has ended reports the limit, with calls as well.
fn finish_reason(figures: &Figures, has_calls: bool) -> FinishReason {
    match figures.ended_by.finish_reason() {
        FinishReason::Stop if has_calls => FinishReason::ToolCalls,
        other => other,
    }
}

fn message(text: String, reasoning: String, calls: Vec<(String, String)>) -> AnswerMessage {
    let call = |(name, arguments)| ToolCall {
        id: call_id(),
        kind: FunctionKind::Function,
        function: FunctionCall { name, arguments },
    };
    let calls: Vec<ToolCall> = calls.into_iter().map(call).collect();
    AnswerMessage {
        role: "assistant".to_owned(),
        content: (!text.is_empty() || calls.is_empty()).then_some(text),
        reasoning_content: Some(reasoning).filter(|text| !text.is_empty()),
        tool_calls: Some(calls).filter(|calls| !calls.is_empty()),
    }
}

fn id(answer: &Answers) -> String {
    format!("chat-{}", answer.id().simple())
}

fn chunk(answer: &Answers, choices: Vec<ChunkChoice>, usage: Option<Usage>) -> Bytes {
    streaming::event(&ChatChunk {
        id: id(answer),
        object: "chat.completion.chunk".to_owned(),
        created: answer.created(),
        model: answer.model().to_owned(),
        choices,
        usage,
    })
}

fn choice(index: u32, delta: Delta) -> ChunkChoice {
    ChunkChoice { index, delta, logprobs: None, finish_reason: None, deft: None }
}

/// A chat answer as chunks.
struct Chunks {
    /// Whether the last chunk has token counts.
    counts: bool,
    /// Answers that have tool calls.
    with_calls: BTreeSet<u32>,
}

impl Written for Chunks {
    fn first(&mut self, answer: &Answers) -> Bytes {
        let role = Delta {
            role: Some("assistant".to_owned()),
            content: Some(String::new()),
            ..Delta::default()
        };
        let choices = (0..).zip(0..answer.count()).map(|(index, _)| choice(index, role.clone()));
        chunk(answer, choices.collect(), None)
    }

    fn text(
        &mut self,
        answer: &Answers,
        index: u32,
        (part, text): (Part, String),
        scores: Vec<TokenScore>,
    ) -> Bytes {
        let delta = match part {
            Part::Answer => Delta { content: Some(text), ..Delta::default() },
            Part::Reasoning => Delta { reasoning_content: Some(text), ..Delta::default() },
            Part::Arguments(call) => {
                let function = FunctionPiece { name: None, arguments: text };
                let piece = ToolCallPiece { index: call, id: None, kind: None, function };
                Delta { tool_calls: Some(vec![piece]), ..Delta::default() }
            }
        };
        let piece = choice(index, delta);
        let logprobs = ChatLogprobs::of(scores);
        chunk(answer, vec![ChunkChoice { logprobs, ..piece }], None)
    }

    fn tool_call(&mut self, answer: &Answers, index: u32, call: u32, name: String) -> Bytes {
        self.with_calls.insert(index);
        let function = FunctionPiece { name: Some(name), arguments: String::new() };
        let kind = Some(FunctionKind::Function);
        let piece = ToolCallPiece { index: call, id: Some(call_id()), kind, function };
        let delta = Delta { tool_calls: Some(vec![piece]), ..Delta::default() };
        chunk(answer, vec![choice(index, delta)], None)
    }

    fn ended(&mut self, answer: &Answers, index: u32, figures: Figures) -> Bytes {
        let finish_reason = Some(finish_reason(&figures, self.with_calls.contains(&index)));
        let last = choice(index, Delta::default());
        chunk(answer, vec![ChunkChoice { finish_reason, deft: Some(figures), ..last }], None)
    }

    fn done(&mut self, answer: &Answers, usage: Usage) -> Bytes {
        streaming::ended(self.counts.then(|| chunk(answer, Vec::new(), Some(usage))))
    }
}
