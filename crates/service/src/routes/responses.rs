//! `POST /v1/responses`, and the answers that are kept so that they can be continued.

mod items;
mod writing;

use std::sync::Arc;

use actix_web::{HttpResponse, delete, get, post, web};
use deft_protocol::StreamEvent;
use deft_protocol::chat::{AnswerOptions, ChatHead, ErrorBody};
use deft_protocol::engine::WhenContextFull;
use deft_protocol::responses::{
    Include, InputItems, ResponseDeleted, ResponseHead, ResponseObject, ResponseStatus,
    ResponseToolChoice, TextFormat, Truncation,
};
use deft_protocol::tools::{
    AnswerForm, FunctionName, NamedTool, ResponseFormat, ToolChoiceField, ToolMode,
};
use deft_protocol::{Problem, ProblemKind};
use futures_util::TryFutureExt;
use serde_json::{Map, Value, json};

use super::App;
use super::caller::Caller;
use super::conversation::{Translated, invalid, question, renamed};
use super::respond::{Body, ChatError, body};
use super::segments::{Segments, whole};
use super::streaming::{Begun, Patience};
use super::{fields, streaming};
use crate::answering::gateway::{Answers, Question};
use crate::answering::kept_answers::Kept;
use writing::Writing;

/// Begins the ids of answers.
const ID_PREFIX: &str = "resp_";
/// Fields of the chat-completions protocol, by which conversations are checked, and their names here.
const NAMES: [(&str, &str); 4] = [
    (".function.", "."),
    ("response_format.json_schema.", "text.format."),
    ("response_format", "text.format"),
    ("reasoning_effort", "reasoning.effort"),
];

/// What an answer with `store` keeps.
struct Keeping {
    /// Items of the conversation that is continued.
    conversation: Vec<Map<String, Value>>,
    /// Items of the request.
    input: Vec<Map<String, Value>>,
}

/// Answers a conversation of items, as one response or as server-sent events.
#[utoipa::path(
    tag = "answers",
    request_body(content = deft_protocol::responses::ResponseRequest, example = json!({"model": "larkfen-desk", "input": "How deep do I sow Moonhook bean?", "max_output_tokens": 60})),
    responses(
        (status = 200, description = "The answer; a stream of events where `stream` is true", content(
            (ResponseObject = "application/json"),
            (StreamEvent = "text/event-stream"),
        )),
        (status = "default", description = "The error", body = ErrorBody),
    )
)]
#[post("/v1/responses")]
pub(super) async fn create_response(
    app: web::Data<App>,
    caller: Caller,
    bytes: Body,
) -> Result<HttpResponse, ChatError> {
    let (begun, patience, writing, streams) = begin(&app, &caller, &bytes.0)?;
    if streams {
        return Ok(streaming::answer(begun, patience, writing).await?);
    }
    Ok(streaming::whole(made(begun, writing), &patience).await?)
}

/// Checks a request and begins to answer it; with whether the answer is streamed.
fn begin(
    app: &web::Data<App>,
    caller: &Caller,
    bytes: &[u8],
) -> Result<(Begun, Patience, Writing, bool), Problem> {
    let head: ResponseHead = body(bytes)?;
    fields::check(bytes, "ResponseRequest")?;
    let options = options(&head, body(bytes)?)?;
    let previous = head.previous_response_id.as_deref().map(|id| kept(app, id)).transpose()?;
    let conversation = previous.map_or_else(Vec::new, |kept| kept.items.clone());
    let input = items::items(head.input.clone());
    let all = items::messages(head.instructions.as_deref(), &conversation, &input)?;
    let question = asked(&head, all)?;
    let writing = Writing {
        response: described(&head, &options, format!("{ID_PREFIX}{}", caller.request.simple())),
        segments: Segments::default(),
        scores: question.scores.is_some(),
        keeping: head.store.unwrap_or(false).then_some(Keeping { conversation, input }),
        kept: Arc::clone(&app.kept_answers),
        events: 0,
    };
    let streams = options.stream.unwrap_or(false);
    let (call, patience) = app.arrive(&head.model, caller);
    let begun = app.begin(call, head.model, question, &options);
    let begun = Answers::begin(vec![begun], 1).map_err(in_its_words);
    Ok((Box::pin(begun), patience, writing, streams))
}

/// Answers a call of a batch.
///
/// # Errors
/// As the route.
pub(super) async fn answer(
    app: &web::Data<App>,
    caller: &Caller,
    bytes: &[u8],
) -> Result<ResponseObject, Problem> {
    let (begun, _, writing, _) = begin(app, caller, bytes)?;
    made(begun, writing).await
}

async fn made(begun: Begun, mut writing: Writing) -> Result<ResponseObject, Problem> {
    let answers = begun.await?;
    writing.begin(&answers);
    let (figures, usage) = whole(answers, &mut writing.segments).await?;
    writing.response.deft = figures;
    writing.end(usage);
    Ok(writing.response)
}

/// Returns a kept answer.
#[utoipa::path(
    tag = "answers",
    responses(
        (status = 200, body = ResponseObject),
        (status = "default", description = "The error", body = ErrorBody),
    )
)]
#[get("/v1/responses/{id}")]
pub(super) async fn show_response(
    app: web::Data<App>,
    id: web::Path<String>,
) -> Result<web::Json<ResponseObject>, ChatError> {
    Ok(web::Json(kept(&app, &id)?.response.clone()))
}

/// Returns the items of the request of a kept answer.
#[utoipa::path(
    tag = "answers",
    responses(
        (status = 200, body = InputItems),
        (status = "default", description = "The error", body = ErrorBody),
    )
)]
#[get("/v1/responses/{id}/input_items")]
pub(super) async fn input_items(
    app: web::Data<App>,
    id: web::Path<String>,
) -> Result<web::Json<InputItems>, ChatError> {
    let data = kept(&app, &id)?.input.clone();
    Ok(web::Json(InputItems { object: "list".to_owned(), data, has_more: false }))
}

/// Removes a kept answer.
#[utoipa::path(
    tag = "answers",
    responses(
        (status = 200, body = ResponseDeleted),
        (status = "default", description = "The error", body = ErrorBody),
    )
)]
#[delete("/v1/responses/{id}")]
pub(super) async fn delete_response(
    app: web::Data<App>,
    id: web::Path<String>,
) -> Result<web::Json<ResponseDeleted>, ChatError> {
    let id = id.into_inner();
    if !app.kept_answers.remove(&id) {
        return Err(not_kept(&id).into());
    }
    Ok(web::Json(ResponseDeleted { id, object: "response".to_owned(), deleted: true }))
}

fn kept(app: &App, id: &str) -> Result<Arc<Kept>, Problem> {
    app.kept_answers.find(id).ok_or_else(|| not_kept(id))
}

fn not_kept(id: &str) -> Problem {
    let id: String = id.chars().take(60).collect();
    let detail = format!("the answer `{id}` is not kept");
    Problem::new(ProblemKind::Missing, "response_not_found", detail)
        .at_field("previous_response_id")
        .with_way_out(
            "answers are kept for an hour after their last use, if they were requested with `store: true`; send the whole \
             conversation as `input`",
        )
}

/// The options, with those that have other names in this protocol.
fn options(head: &ResponseHead, options: AnswerOptions) -> Result<AnswerOptions, Problem> {
    if options.n.is_some_and(|n| n != 1) {
        return Err(invalid("n", "field_out_of_range", "`n` must be 1".to_owned()));
    }
    if head.background.unwrap_or(false) {
        let detail =
            "`background` must be false: answers are not computed after their caller has left";
        return Err(invalid("background", "field_out_of_range", detail.to_owned()));
    }
    let overflow = match head.truncation {
        Some(Truncation::Auto) => Some(WhenContextFull::LeaveOutOldest),
        _ => options.when_context_full,
    };
    Ok(AnswerOptions {
        max_completion_tokens: head.max_output_tokens.or(options.max_completion_tokens),
        when_context_full: overflow,
        ..options
    })
}

/// The question of a request.
fn asked(head: &ResponseHead, all: Translated) -> Result<Question, Problem> {
    let tool = |tool: &Map<String, Value>| {
        let mut function = tool.clone();
        match function.remove("type") {
            // The refusal of another type names it.
            Some(kind) if kind != "function" => json!({"type": kind}),
            _ => json!({"type": "function", "function": function}),
        }
    };
    let choice = |choice: &ResponseToolChoice| match choice {
        ResponseToolChoice::Mode(mode) => ToolChoiceField::Mode(*mode),
        ResponseToolChoice::Named(named) => ToolChoiceField::Named(NamedTool {
            kind: named.kind,
            function: FunctionName { name: named.name.clone() },
        }),
    };
    let format = head.text.as_ref().and_then(|text| text.format.as_ref());
    let format = format.map(|format| match format {
        TextFormat::Text => ResponseFormat::Text,
        TextFormat::JsonObject => ResponseFormat::JsonObject,
        TextFormat::JsonSchema(schema) => {
            ResponseFormat::JsonSchema { json_schema: schema.clone() }
        }
    });
    let form = AnswerForm {
        tools: head.tools.as_ref().map(|tools| tools.iter().map(tool).collect()),
        tool_choice: head.tool_choice.as_ref().map(choice),
        parallel_tool_calls: head.parallel_tool_calls,
        response_format: format,
        must_match: head.must_match.clone(),
        reasoning_effort: head.reasoning.as_ref().and_then(|reasoning| reasoning.effort.clone()),
        max_reasoning_tokens: head.max_reasoning_tokens,
        chat_template_kwargs: head.chat_template_kwargs.clone(),
    };
    let included = head.include.as_deref().unwrap_or_default().contains(&Include::Logprobs);
    let chat = ChatHead {
        messages: all.messages.clone(),
        form,
        logprobs: Some(included || head.top_logprobs.is_some_and(|most| most > 0)),
        top_logprobs: head.top_logprobs,
        ..ChatHead::new(head.model.clone(), Vec::new())
    };
    question(&chat).map_err(|problem| all.in_its_words(problem, &NAMES))
}

/// A problem of the engine in the words of the request.
fn in_its_words(problem: Problem) -> Problem {
    NAMES.iter().fold(problem, |problem, (from, to)| renamed(problem, from, to))
}

/// An answer that has not begun.
fn described(head: &ResponseHead, options: &AnswerOptions, id: String) -> ResponseObject {
    ResponseObject {
        id,
        object: "response".to_owned(),
        created_at: 0,
        status: ResponseStatus::InProgress,
        error: None,
        incomplete_details: None,
        model: head.model.clone(),
        output: Vec::new(),
        usage: None,
        instructions: head.instructions.clone(),
        previous_response_id: head.previous_response_id.clone(),
        store: head.store.unwrap_or(false),
        tools: head.tools.clone().unwrap_or_default(),
        tool_choice: head.tool_choice.clone().unwrap_or(ResponseToolChoice::Mode(ToolMode::Auto)),
        parallel_tool_calls: head.parallel_tool_calls.unwrap_or(true),
        text: head.text.clone().unwrap_or_default(),
        truncation: head.truncation.unwrap_or_default(),
        temperature: options.temperature,
        top_p: options.top_p,
        max_output_tokens: head.max_output_tokens,
        metadata: head.metadata.clone(),
        deft: None,
    }
}
