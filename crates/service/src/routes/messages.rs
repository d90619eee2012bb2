//! `POST /v1/messages`, and the number of tokens of such a conversation.

mod blocks;
mod writing;

use actix_web::{HttpResponse, post, web};
use deft_protocol::Problem;
use deft_protocol::StreamEvent;
use deft_protocol::chat::{AnswerOptions, ChatHead, StopTexts};
use deft_protocol::engine::TokenTexts;
use deft_protocol::messages::{
    MessagesError, MessagesHead, MessagesOptions, MessagesResponse, MessagesToolMode, OutputFormat,
    Thinking, TokenCount,
};
use deft_protocol::tools::{
    AnswerForm, FunctionKind, FunctionName, NamedSchema, NamedTool, ResponseFormat,
    ToolChoiceField, ToolMode,
};
use futures_util::TryFutureExt;
use serde_json::{Map, Value, json};

use super::App;
use super::caller::Caller;
use super::conversation::{invalid, question, renamed};
use super::respond::{Body, MessagesProblem, body, messages_error};
use super::segments::whole;
use super::streaming::{Begun, Patience};
use super::{fields, streaming};
use crate::answering::gateway::{Answers, Question};
use writing::Writing;

/// Fields of the chat-completions protocol, by which conversations are checked, and their names here.
const NAMES: [(&str, &str); 5] = [
    (".function.parameters", ".input_schema"),
    (".function.", "."),
    ("response_format.json_schema.", "output_config.format."),
    ("response_format", "output_config.format"),
    ("reasoning_effort", "output_config.effort"),
];

/// Answers a conversation of blocks, as one response or as server-sent events.
#[utoipa::path(
    tag = "answers",
    request_body(content = deft_protocol::messages::MessagesRequest, example = json!({"model": "larkfen-desk", "messages": [{"role": "user", "content": "How deep do I sow Moonhook bean?"}], "max_tokens": 60})),
    responses(
        (status = 200, description = "The answer; a stream of events where `stream` is true", content(
            (MessagesResponse = "application/json"),
            (StreamEvent = "text/event-stream"),
        )),
        (status = "default", description = "The error", body = MessagesError),
    )
)]
#[post("/v1/messages")]
pub(super) async fn create_message(
    app: web::Data<App>,
    caller: Caller,
    bytes: Body,
) -> Result<HttpResponse, MessagesProblem> {
    let (begun, patience, writing, streams) = begin(&app, &caller, &bytes.0)?;
    if streams {
        return Ok(streaming::answer(begun, patience, writing).await?);
    }
    Ok(streaming::whole_or(made(begun, writing), &patience, messages_error).await?)
}

/// Checks a request and begins to answer it; with whether the answer is streamed.
fn begin(
    app: &web::Data<App>,
    caller: &Caller,
    bytes: &[u8],
) -> Result<(Begun, Patience, Writing, bool), Problem> {
    let head: MessagesHead = body(bytes)?;
    fields::check(bytes, "MessagesRequest")?;
    let options: MessagesOptions = body(bytes)?;
    let question = asked(&head)?;
    let writing = Writing::new(format!("msg_{}", caller.request.simple()), head.model.clone());
    let streams = options.stream.unwrap_or(false);
    let (call, patience) = app.arrive(&head.model, caller);
    let begun = app.begin(call, head.model, question, &usual(options));
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
) -> Result<MessagesResponse, Problem> {
    let (begun, _, writing, _) = begin(app, caller, bytes)?;
    made(begun, writing).await
}

async fn made(begun: Begun, mut writing: Writing) -> Result<MessagesResponse, Problem> {
    let answers = begun.await?;
    writing.begin(&answers);
    let (figures, usage) = whole(answers, &mut writing.segments).await?;
    writing.end(figures, usage);
    Ok(writing.response)
}

/// Counts the tokens of a conversation, with its tools and the model's template.
#[utoipa::path(
    tag = "answers",
    request_body(content = MessagesHead, example = json!({"model": "larkfen-desk", "messages": [{"role": "user", "content": "How deep do I sow Moonhook bean?"}]})),
    responses(
        (status = 200, body = TokenCount),
        (status = "default", description = "The error", body = MessagesError),
    )
)]
#[post("/v1/messages/count_tokens")]
pub(super) async fn count_message_tokens(
    app: web::Data<App>,
    caller: Caller,
    bytes: Body,
) -> Result<HttpResponse, MessagesProblem> {
    let head: MessagesHead = body(&bytes.0)?;
    fields::check(&bytes.0, "MessagesHead")?;
    let question = asked(&head)?;
    let (call, patience) = app.arrive(&head.model, &caller);
    let made = async move {
        let found = app.gateway.tokens(call, &head.model, question, TokenTexts::None).await?;
        Ok(TokenCount { input_tokens: u32::try_from(found.tokens.len()).unwrap_or(u32::MAX) })
    };
    Ok(streaming::whole_or(made, &patience, messages_error).await?)
}

/// The options in the words of the chat-completions protocol.
fn usual(options: MessagesOptions) -> AnswerOptions {
    AnswerOptions {
        max_completion_tokens: Some(options.max_tokens),
        stop: options.stop_sequences.map(StopTexts::Many),
        temperature: options.temperature,
        top_p: options.top_p,
        top_k: options.top_k,
        seed: options.seed,
        when_context_full: options.when_context_full,
        wait_seconds: options.wait_seconds,
        priority: options.priority,
        user: options.metadata.and_then(|metadata| metadata.user_id),
        ..AnswerOptions::default()
    }
}

/// The question of a request.
fn asked(head: &MessagesHead) -> Result<Question, Problem> {
    let all = blocks::messages(head.system.as_ref(), &head.messages)?;
    let tools = head.tools.as_deref().unwrap_or_default().iter().map(tool);
    let output = head.output_config.clone().unwrap_or_default();
    let format = output.format.map(|OutputFormat::JsonSchema { schema }| {
        let (name, description, strict) = (String::new(), None, None);
        let json_schema = NamedSchema { name, description, schema: Some(schema), strict };
        ResponseFormat::JsonSchema { json_schema }
    });
    let form = AnswerForm {
        tools: head.tools.is_some().then(|| tools.collect()),
        tool_choice: tool_choice(head)?,
        parallel_tool_calls: head
            .tool_choice
            .as_ref()
            .and_then(|choice| choice.disable_parallel_tool_use)
            .map(|disabled| !disabled),
        response_format: format,
        reasoning_effort: output.effort,
        max_reasoning_tokens: match head.thinking.unwrap_or(Thinking::Disabled) {
            Thinking::Enabled { budget_tokens } => Some(budget_tokens),
            Thinking::Adaptive => None,
            // A model that thinks anyway is told at once to answer.
            Thinking::Disabled => Some(0),
        },
        ..AnswerForm::default()
    };
    let chat = ChatHead {
        messages: all.messages.clone(),
        form,
        ..ChatHead::new(head.model.clone(), Vec::new())
    };
    question(&chat).map_err(|problem| all.in_its_words(problem, &NAMES))
}

/// A problem of the engine in the words of the request.
fn in_its_words(problem: Problem) -> Problem {
    NAMES.iter().fold(problem, |problem, (from, to)| renamed(problem, from, to))
}

fn tool_choice(head: &MessagesHead) -> Result<Option<ToolChoiceField>, Problem> {
    let Some(choice) = &head.tool_choice else { return Ok(None) };
    Ok(Some(match (choice.kind, &choice.name) {
        (MessagesToolMode::Auto, _) => ToolChoiceField::Mode(ToolMode::Auto),
        (MessagesToolMode::Any, _) => ToolChoiceField::Mode(ToolMode::Required),
        (MessagesToolMode::None, _) => ToolChoiceField::Mode(ToolMode::None),
        (MessagesToolMode::Tool, Some(name)) => ToolChoiceField::Named(NamedTool {
            kind: FunctionKind::Function,
            function: FunctionName { name: name.clone() },
        }),
        (MessagesToolMode::Tool, None) => {
            let detail = "`tool_choice.name` is missing".to_owned();
            return Err(invalid("tool_choice.name", "tool_choice_invalid", detail));
        }
    }))
}

/// A tool in the words of the chat-completions protocol.
fn tool(tool: &Map<String, Value>) -> Value {
    match tool.get("type") {
        // The refusal of another type names it.
        Some(kind) if !kind.is_null() && kind != "custom" => json!({"type": kind}),
        _ => {
            let mut function = Map::new();
            for (from, to) in [
                ("name", "name"),
                ("description", "description"),
                ("input_schema", "parameters"),
                ("strict", "strict"),
            ] {
                if let Some(value) = tool.get(from) {
                    function.insert(to.to_owned(), value.clone());
                }
            }
            json!({"type": "function", "function": function})
        }
    }
}
