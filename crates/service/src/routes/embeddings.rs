//! `POST /v1/embeddings`.

use actix_web::{HttpResponse, post, web};
use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use deft_protocol::Problem;
use deft_protocol::chat::ErrorBody;
use deft_protocol::embeddings::{
    EmbeddingEntry, EmbeddingFormat, EmbeddingRequest, EmbeddingResponse, EmbeddingUsage,
    EmbeddingValues,
};

use super::caller::Caller;
use super::fields;
use super::respond::{Body, ChatError, body};
use super::streaming::Patience;
use super::{App, streaming};
use crate::answering::gateway::Embedded;

/// Computes embeddings of one or several inputs.
#[utoipa::path(
    tag = "answers",
    request_body(content = EmbeddingRequest, example = json!({"model": "larkfen-find", "input": ["Moonhook bean", "Ember chard"]})),
    responses(
        (status = 200, body = EmbeddingResponse),
        (status = "default", description = "The error", body = ErrorBody),
    )
)]
#[post("/v1/embeddings")]
pub(super) async fn embed(
    app: web::Data<App>,
    caller: Caller,
    bytes: Body,
) -> Result<HttpResponse, ChatError> {
    let (made, patience) = begin(&app, &caller, &bytes.0)?;
    Ok(streaming::whole(made, &patience).await?)
}

/// Checks a request and begins to answer it.
fn begin(
    app: &web::Data<App>,
    caller: &Caller,
    bytes: &[u8],
) -> Result<(impl Future<Output = Result<EmbeddingResponse, Problem>> + use<>, Patience), Problem> {
    let request: EmbeddingRequest = body(bytes)?;
    fields::check(bytes, "EmbeddingRequest")?;
    let format = request.encoding_format.unwrap_or_default();
    let (call, patience) = app.arrive(&request.model, caller);
    let app = app.clone();
    let made = async move {
        let EmbeddingRequest { model, input, dimensions, input_role, user, .. } = request;
        let how = (dimensions, input_role);
        let embedded = app.gateway.embed(call, &model, input.into_list(), how, user).await?;
        Ok(response(embedded, format))
    };
    Ok((made, patience))
}

/// Answers a call of a batch.
///
/// # Errors
/// As the route.
pub(super) async fn answer(
    app: &web::Data<App>,
    caller: &Caller,
    bytes: &[u8],
) -> Result<EmbeddingResponse, Problem> {
    begin(app, caller, bytes)?.0.await
}

fn response(embedded: Embedded, format: EmbeddingFormat) -> EmbeddingResponse {
    let entry = |(index, vector): (u32, Vec<f32>)| EmbeddingEntry {
        object: "embedding".to_owned(),
        index,
        embedding: written(vector, format),
    };
    EmbeddingResponse {
        object: "list".to_owned(),
        data: (0..).zip(embedded.values).map(entry).collect(),
        model: embedded.model,
        usage: EmbeddingUsage { prompt_tokens: embedded.tokens, total_tokens: embedded.tokens },
    }
}

fn written(vector: Vec<f32>, format: EmbeddingFormat) -> EmbeddingValues {
    match format {
        EmbeddingFormat::Float => EmbeddingValues::Float(vector),
        EmbeddingFormat::Base64 => {
            let bytes: Vec<u8> = vector.iter().flat_map(|value| value.to_le_bytes()).collect();
            EmbeddingValues::Base64(STANDARD.encode(bytes))
        }
    }
}
