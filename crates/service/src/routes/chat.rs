//! `POST /v1/chat/completions`.

use actix_web::{HttpResponse, post, web};
use bytes::Bytes;
use deft_protocol::chat::{
    AnswerMessage, AnswerOptions, ChatChoice, ChatChunk, ChatHead, ChatLogprobs, ChatMessage,
    ChatResponse, ChunkChoice, Content, Delta, ErrorBody, Figures, Usage,
};
use deft_protocol::engine::{Prompt, TokenScore, TooMuch, check_values};
use deft_protocol::{Problem, ProblemKind};
use serde_json::{Map, Value};

use super::App;
use super::caller::Caller;
use super::respond::{Body, ChatError, body};
use super::streaming::{self, Written};
use crate::answering::gateway::{Answers, Question, Whole, check_answers};

/// Answers a conversation, as one response or as server-sent events.
#[utoipa::path(
    tag = "answers",
    request_body = deft_protocol::chat::ChatRequest,
    responses(
        (status = 200, description = "The answer; a stream of chunks where `stream` is true", body = ChatResponse),
        (status = "default", description = "The error", body = ErrorBody),
    )
)]
#[post("/v1/chat/completions")]
pub(super) async fn complete_chat(
    app: web::Data<App>,
    caller: Caller,
    bytes: Body,
) -> Result<HttpResponse, ChatError> {
    let head: ChatHead = body(&bytes.0)?;
    let options: AnswerOptions = body(&bytes.0)?;
    let streams = options.stream.unwrap_or(false);
    let counts = options.stream_options.unwrap_or_default().include_usage;
    let question = question(&head)?;
    check_answers(&options, 1)?;
    let (call, patience) = app.arrive(&head.model, &caller);
    let begun = app.begin(call, head.model, question, &options);
    let begun = Answers::begin(vec![begun], options.n.unwrap_or(1));
    if streams {
        return Ok(streaming::answer(begun, patience, Chunks { counts }).await?);
    }
    Ok(streaming::whole(async { whole(begun.await?).await }, &patience).await?)
}

/// The conversation as the template gets it.
fn question(head: &ChatHead) -> Result<Question, Problem> {
    let invalid = |field: &str, code: &str, detail: &str| {
        Err(Problem::new(ProblemKind::Invalid, code, detail).at_field(field))
    };
    if head.messages.is_empty() {
        return invalid("messages", "messages_empty", "`messages` is empty");
    }
    let of_messages = head.messages.iter().flat_map(|message| message.rest.values());
    check_values(of_messages).map_err(|error| too_much("messages", error))?;
    check_values(head.tools.iter().flatten()).map_err(|error| too_much("tools", error))?;
    let scores = match (head.logprobs.unwrap_or(false), head.top_logprobs) {
        (true, alternatives) => Some(alternatives.unwrap_or(0)),
        (false, None | Some(0)) => None,
        (false, Some(_)) => {
            let detail = "`top_logprobs` needs `logprobs` to be true";
            return invalid("top_logprobs", "field_out_of_range", detail);
        }
    };
    let message = |(at, message): (usize, &ChatMessage)| {
        let content =
            message.content.as_ref().map(|content| whole_text(at, content)).transpose()?;
        match serde_json::to_value(ChatMessage { content, ..message.clone() }) {
            Ok(Value::Object(map)) => Ok(map),
            _ => Ok(Map::new()),
        }
    };
    let messages = head.messages.iter().enumerate().map(message);
    let messages = messages.collect::<Result<Vec<_>, Problem>>()?;
    let prompt = Prompt::Chat { messages, tools: head.tools.clone() };
    Ok(Question { prompt, echo: false, scores })
}

/// The text of a message. Parts become one text, so that a control token which is cut in two by them stays
/// words; what is no text is refused by name, for no model here reads it.
fn whole_text(message: usize, content: &Content) -> Result<Content, Problem> {
    let Content::Parts(parts) = content else {
        return Ok(content.clone());
    };
    let mut whole = String::new();
    for (at, part) in parts.iter().enumerate() {
        let kind = part.get("type").and_then(Value::as_str).unwrap_or("text");
        match (kind, part.get("text").and_then(Value::as_str)) {
            ("text", Some(text)) => whole.push_str(text),
            ("text", None) => {
                let field = format!("messages[{message}].content[{at}]");
                let detail = format!("`{field}` has no `text`");
                return Err(
                    Problem::new(ProblemKind::Invalid, "part_without_text", detail).at_field(field)
                );
            }
            (other, _) => {
                let other: String = other.chars().take(40).collect();
                let field = format!("messages[{message}].content[{at}]");
                let detail = format!("`{field}` is of type `{other}`; models here read text only");
                return Err(Problem::new(ProblemKind::Invalid, "part_not_supported", detail)
                    .at_field(field)
                    .with_way_out("leave it out, or describe it in words"));
            }
        }
    }
    Ok(Content::Text(whole))
}

fn too_much(field: &str, error: TooMuch) -> Problem {
    let detail = format!("`{field}` {error}");
    Problem::new(ProblemKind::Invalid, "field_too_large", detail).at_field(field)
}

async fn whole(mut answer: Answers) -> Result<ChatResponse, Problem> {
    let (answers, usage) = answer.whole().await?;
    let choice = |(index, whole): (u32, Whole)| {
        let figures = whole.figures?;
        Some(ChatChoice {
            index,
            message: AnswerMessage { role: "assistant".to_owned(), content: whole.text },
            logprobs: ChatLogprobs::of(whole.scores),
            finish_reason: figures.ended_by.finish_reason(),
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
}

impl Written for Chunks {
    fn first(&mut self, answer: &Answers) -> Bytes {
        let role = Delta { role: Some("assistant".to_owned()), content: Some(String::new()) };
        let choices = (0..).zip(0..answer.count()).map(|(index, _)| choice(index, role.clone()));
        chunk(answer, choices.collect(), None)
    }

    fn text(
        &mut self,
        answer: &Answers,
        index: u32,
        text: String,
        scores: Vec<TokenScore>,
    ) -> Bytes {
        let piece = choice(index, Delta { role: None, content: Some(text) });
        let logprobs = ChatLogprobs::of(scores);
        chunk(answer, vec![ChunkChoice { logprobs, ..piece }], None)
    }

    fn ended(&mut self, answer: &Answers, index: u32, figures: Figures) -> Bytes {
        let finish_reason = Some(figures.ended_by.finish_reason());
        let last = choice(index, Delta::default());
        chunk(answer, vec![ChunkChoice { finish_reason, deft: Some(figures), ..last }], None)
    }

    fn done(&mut self, answer: &Answers, usage: Usage) -> Option<Bytes> {
        self.counts.then(|| chunk(answer, Vec::new(), Some(usage)))
    }
}
