//! `POST /v1/tokenize` and `POST /v1/detokenize`.

use actix_web::{HttpResponse, post, web};
use deft_protocol::chat::{ChatHead, ErrorBody};
use deft_protocol::engine::Prompt;
use deft_protocol::tokens::{
    DetokenizeRequest, DetokenizeResponse, TokenizeRequest, TokenizeResponse,
};
use deft_protocol::{Problem, ProblemKind};

use super::App;
use super::caller::Caller;
use super::respond::{Body, ChatError, body};
use super::{conversation, fields, streaming};
use crate::answering::gateway::Question;

/// Converts a text, or the prompt of a conversation, to tokens. The model is loaded, but no lane is used.
#[utoipa::path(
    tag = "answers",
    request_body = TokenizeRequest,
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
    let question = question(&request, &bytes.0)?;
    let with_texts = request.texts.unwrap_or(false);
    let (call, patience) = app.arrive(&request.model, &caller);
    let made = async move {
        let found = app.gateway.tokens(call, &request.model, question).await?;
        let texts = with_texts.then(|| found.tokens.iter().map(|t| t.text.clone()).collect());
        let tokens: Vec<u32> = found.tokens.iter().map(|token| token.id).collect();
        let count = u32::try_from(tokens.len()).unwrap_or(u32::MAX);
        Ok(TokenizeResponse { model: found.model, count, tokens, texts })
    };
    Ok(streaming::whole(made, &patience).await?)
}

/// What to convert: exactly one of a text and a conversation.
fn question(request: &TokenizeRequest, bytes: &[u8]) -> Result<Question, Problem> {
    match (&request.input, &request.messages) {
        (Some(text), None) => Ok(match request.control_tokens.unwrap_or(true) {
            true => Prompt::Raw(text.clone()).into(),
            false => Prompt::Text(text.clone()).into(),
        }),
        (None, Some(_)) => {
            let head: ChatHead = body(bytes)?;
            conversation::question(&head)
        }
        _ => {
            let detail = "either `input` or `messages` is required".to_owned();
            Err(Problem::new(ProblemKind::Invalid, "field_missing", detail).at_field("input"))
        }
    }
}

/// Converts tokens to their text.
#[utoipa::path(
    tag = "answers",
    request_body = DetokenizeRequest,
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
        let found = app.gateway.tokens(call, &request.model, question).await?;
        Ok(DetokenizeResponse { model: found.model, text: found.text })
    };
    Ok(streaming::whole(made, &patience).await?)
}
