//! `POST /v1/completions`: continues a text without a template.

use actix_web::web::Data;
use actix_web::{HttpResponse, post};
use bytes::Bytes;
use deft_protocol::StreamEvent;
use deft_protocol::chat::{AnswerOptions, ErrorBody, Figures, Usage};
use deft_protocol::engine::{Part, Prompt, TokenScore};
use deft_protocol::text::{TextChoice, TextHead, TextLogprobs, TextResponse};
use deft_protocol::{Problem, ProblemKind};
use uuid::Uuid;

use super::caller::Caller;
use super::fields;
use super::respond::{Body, ChatError, body};
use super::streaming::{self, Written};
use super::{App, Beginning};
use crate::answering::gateway::{Answers, Question, Whole, check_answers};

/// Continues a text, as one response or as server-sent events.
#[utoipa::path(
    tag = "answers",
    request_body(content = deft_protocol::text::TextRequest, example = json!({"model": "larkfen-desk", "prompt": "Sow Moonhook bean", "max_tokens": 8})),
    responses(
        (status = 200, description = "The continuation; a stream where `stream` is true", content(
            (TextResponse = "application/json"),
            (StreamEvent = "text/event-stream"),
        )),
        (status = "default", description = "The error", body = ErrorBody),
    )
)]
#[post("/v1/completions")]
pub(super) async fn continue_text(
    app: Data<App>,
    caller: Caller,
    bytes: Body,
) -> Result<HttpResponse, ChatError> {
    let (begun, patience, options) = begin(&app, &caller, &bytes.0)?;
    let counts = options.stream_options.unwrap_or_default().include_usage;
    if options.stream.unwrap_or(false) {
        let offsets = Vec::new();
        return Ok(streaming::answer(begun, patience, Pieces { counts, offsets }).await?);
    }
    Ok(streaming::whole(async { whole(begun.await?).await }, &patience).await?)
}

/// Checks a request and begins to answer it.
fn begin(app: &Data<App>, caller: &Caller, bytes: &[u8]) -> Result<Beginning, Problem> {
    let head: TextHead = body(bytes)?;
    fields::check(bytes, "TextRequest")?;
    let options: AnswerOptions = body(bytes)?;
    let control_tokens = head.control_tokens.unwrap_or(true);
    let prompts = head.prompt.into_prompts(control_tokens);
    let prompts = match head.suffix {
        Some(after) => around(prompts, &after, control_tokens)?,
        None => prompts,
    };
    let (echo, scores) = (head.echo.unwrap_or(false), head.logprobs);
    let question = |prompt: Prompt| Question { echo, scores, ..prompt.into() };
    let questions: Vec<Question> = prompts.into_iter().map(question).collect();
    check_answers(&options, questions.len())?;
    let (first, patience) = app.arrive(&head.model, caller);
    // Each further prompt is a call with an id of its own.
    let other = |_| app.enter(Uuid::now_v7(), &head.model, caller);
    let others: Vec<_> = (1..questions.len()).map(other).collect();
    let calls = std::iter::once(first).chain(others).zip(questions);
    let begin = |(call, question)| app.begin(call, head.model.clone(), question, &options);
    let begun = Answers::begin(calls.map(begin).collect(), options.n.unwrap_or(1));
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
) -> Result<TextResponse, Problem> {
    let (begun, ..) = begin(app, caller, bytes)?;
    whole(begun.await?).await
}

/// Prompts for what is between each text and the text `after` it.
fn around(prompts: Vec<Prompt>, after: &str, control_tokens: bool) -> Result<Vec<Prompt>, Problem> {
    let middle = |prompt| match prompt {
        Prompt::Text(before) | Prompt::Raw(before) => {
            Ok(Prompt::Middle { before, after: after.to_owned(), control_tokens })
        }
        _ => {
            let detail = "`suffix` requires a prompt of text, not of token ids".to_owned();
            let problem = Problem::new(ProblemKind::Invalid, "field_out_of_range", detail);
            Err(problem.at_field("suffix"))
        }
    };
    prompts.into_iter().map(middle).collect()
}

async fn whole(mut answer: Answers) -> Result<TextResponse, Problem> {
    let (answers, usage) = answer.whole().await?;
    let whole = |(index, whole): (u32, Whole)| TextChoice {
        index,
        text: whole.text,
        logprobs: TextLogprobs::of(whole.scores, &mut 0),
        finish_reason: whole.figures.as_ref().map(|figures| figures.ended_by.finish_reason()),
        deft: whole.figures,
    };
    let choices = (0..).zip(answers).map(whole).collect();
    Ok(response(&answer, choices, Some(usage)))
}

fn response(answer: &Answers, choices: Vec<TextChoice>, usage: Option<Usage>) -> TextResponse {
    TextResponse {
        id: format!("text-{}", answer.id().simple()),
        object: "text_completion".to_owned(),
        created: answer.created(),
        model: answer.model().to_owned(),
        choices,
        usage,
    }
}

/// A continuation in pieces.
struct Pieces {
    /// Whether the last chunk has token counts.
    counts: bool,
    /// Where the next token of each continuation begins, in characters.
    offsets: Vec<u32>,
}

fn piece(index: u32, text: String) -> TextChoice {
    TextChoice { index, text, logprobs: None, finish_reason: None, deft: None }
}

impl Written for Pieces {
    fn first(&mut self, answer: &Answers) -> Bytes {
        self.offsets = vec![0; answer.count()];
        let choices = (0..).zip(&self.offsets).map(|(index, _)| piece(index, String::new()));
        streaming::event(&response(answer, choices.collect(), None))
    }

    fn text(
        &mut self,
        answer: &Answers,
        index: u32,
        (_, text): (Part, String),
        scores: Vec<TokenScore>,
    ) -> Bytes {
        let logprobs = self
            .offsets
            .get_mut(index as usize)
            .and_then(|offset| TextLogprobs::of(scores, offset));
        let choice = TextChoice { logprobs, ..piece(index, text) };
        streaming::event(&response(answer, vec![choice], None))
    }

    fn tool_call(&mut self, _: &Answers, _: u32, _: u32, _: String) -> Bytes {
        // Continuations are plain text.
        Bytes::new()
    }

    fn ended(&mut self, answer: &Answers, index: u32, figures: Figures) -> Bytes {
        let finish_reason = Some(figures.ended_by.finish_reason());
        let last = piece(index, String::new());
        let choice = TextChoice { finish_reason, deft: Some(figures), ..last };
        streaming::event(&response(answer, vec![choice], None))
    }

    fn done(&mut self, answer: &Answers, usage: Usage) -> Bytes {
        let counts = || streaming::event(&response(answer, Vec::new(), Some(usage)));
        streaming::ended(self.counts.then(counts))
    }
}
