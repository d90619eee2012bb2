//! `POST /v1/tokenize` and `POST /v1/detokenize`.

use actix_web::{HttpResponse, post, web};
use deft_protocol::chat::{ChatHead, ErrorBody};
use deft_protocol::engine::{Prompt, TokenTexts};
use deft_protocol::tokens::{
    DetokenizeRequest, DetokenizeResponse, TokenizeRequest, TokenizeResponse,
};
use deft_protocol::tools::AnswerForm;
use deft_protocol::{Problem, ProblemKind};

use super::App;
use super::caller::Caller;
use super::respond::{Body, ChatError, body};
use super::{conversation, fields, streaming};
use crate::answering::gateway::{Question, Tokens};

/// Converts a text, or the prompt of a conversation, to tokens. The model is loaded, but no lane is used.
#[utoipa::path(
    tag = "answers",
    request_body(content = TokenizeRequest, example = json!({"model": "larkfen-desk", "messages": [{"role": "user", "content": "How deep do I sow Moonhook bean?"}]})),
    responses(
        (status = 200, body = TokenizeResponse),
        (status = "default", description = "The error", body = ErrorBody),
    )
)]
#[post("/v1/tokenize")]
pub(super) async fn tokenize(
    app: web::Data<App>,
    caller: Caller,
    bytes: Body,
) -> Result<HttpResponse, ChatError> {
    let request: TokenizeRequest = body(&bytes.0)?;
    fields::check(&bytes.0, "TokenizeRequest")?;
    let texts = if request.texts.unwrap_or(false) { TokenTexts::Each } else { TokenTexts::None };
    let (call, patience) = app.arrive(&request.model, &caller);
    let (model, question) = question(request)?;
    let made = async move {
        let Tokens { model, tokens, texts: found } =
            app.gateway.tokens(call, &model, question, texts).await?;
        let count = u32::try_from(tokens.len()).unwrap_or(u32::MAX);
        let texts = (texts == TokenTexts::Each).then_some(found);
        Ok(TokenizeResponse { model, count, tokens, texts })
    };
    Ok(streaming::whole(made, &patience).await?)
}

/// The model, and what to convert: exactly one of a text and a conversation.
fn question(request: TokenizeRequest) -> Result<(String, Question), Problem> {
    let TokenizeRequest { model, input, control_tokens, messages, texts: _, form } = request;
    let refused = |field: &str, code: &str, detail: String| {
        Err(Problem::new(ProblemKind::Invalid, code, detail).at_field(field))
    };
    match (input, messages) {
        (Some(_), None) if form != AnswerForm::default() => {
            let detail = "tools, template arguments and forms of answers require `messages`";
            refused("input", "field_out_of_place", detail.to_owned())
        }
        (Some(text), None) => {
            let prompt = if control_tokens.unwrap_or(true) { Prompt::Raw } else { Prompt::Text };
            Ok((model, prompt(text).into()))
        }
        (None, Some(_)) if control_tokens.is_some() => {
            let detail = "`control_tokens` requires `input`; control tokens in messages are text";
            refused("control_tokens", "field_out_of_place", detail.to_owned())
        }
        (None, Some(messages)) => {
            let head = ChatHead { form, ..ChatHead::new(model, messages) };
            let question = conversation::question(&head)?;
            Ok((head.model, question))
        }
        _ => refused(
            "input",
            "field_missing",
            "one of `input` and `messages` is required".to_owned(),
        ),
    }
}

/// Converts tokens to their text.
#[utoipa::path(
    tag = "answers",
    request_body(content = DetokenizeRequest, example = json!({"model": "larkfen-desk", "tokens": [100, 200]})),
    responses(
        (status = 200, body = DetokenizeResponse),
        (status = "default", description = "The error", body = ErrorBody),
    )
)]
#[post("/v1/detokenize")]
pub(super) async fn detokenize(
    app: web::Data<App>,
    caller: Caller,
    bytes: Body,
) -> Result<HttpResponse, ChatError> {
    let request: DetokenizeRequest = body(&bytes.0)?;
    fields::check(&bytes.0, "DetokenizeRequest")?;
    let (call, patience) = app.arrive(&request.model, &caller);
    let made = async move {
        let question = Prompt::Tokens(request.tokens).into();
        let texts = TokenTexts::Joined;
        let found = app.gateway.tokens(call, &request.model, question, texts).await?;
        Ok(DetokenizeResponse { model: found.model, text: found.texts.concat() })
    };
    Ok(streaming::whole(made, &patience).await?)
}
