//! `POST /v1/rerank`.

use actix_web::{HttpResponse, post, web};
use deft_protocol::chat::ErrorBody;
use deft_protocol::embeddings::EmbeddingUsage;
use deft_protocol::engine::Prompt;
use deft_protocol::rerank::{RerankDocument, RerankRequest, RerankResponse, RerankResult};
use deft_protocol::{Problem, ProblemKind};

use super::App;
use super::caller::Caller;
use super::respond::{Body, ChatError, body};
use super::streaming::Patience;
use super::{fields, streaming};
use crate::answering::gateway::Embedded;

/// Orders documents by their relevance to a query: by the angles between their embeddings and the query's.
#[utoipa::path(
    tag = "answers",
    request_body(content = RerankRequest, example = json!({"model": "larkfen-find", "query": "How deep do I sow beans?", "documents": ["Ember chard is sown in March.", "Moonhook bean is sown 3 cm deep."]})),
    responses(
        (status = 200, body = RerankResponse),
        (status = "default", description = "The error", body = ErrorBody),
    )
)]
#[post("/v1/rerank")]
pub(super) async fn rerank(
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
) -> Result<(impl Future<Output = Result<RerankResponse, Problem>> + use<>, Patience), Problem> {
    let request: RerankRequest = body(bytes)?;
    fields::check(bytes, "RerankRequest")?;
    if request.documents.is_empty() {
        let detail = "`documents` is empty".to_owned();
        let problem = Problem::new(ProblemKind::Invalid, "field_out_of_range", detail);
        return Err(problem.at_field("documents"));
    }
    let (call, patience) = app.arrive(&request.model, caller);
    let app = app.clone();
    let made = async move {
        let RerankRequest { model, query, documents, top_n, return_documents, user } = request;
        let texts: Vec<String> = documents.into_iter().map(RerankDocument::into_text).collect();
        let inputs = std::iter::once(&query).chain(&texts).cloned().map(Prompt::Text).collect();
        let embedded = app.gateway.embed(call, &model, inputs, user).await?;
        let most = top_n.map_or(usize::MAX, |most| most as usize);
        let texts = return_documents.unwrap_or(false).then_some(texts);
        Ok(response(embedded, most, texts))
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
) -> Result<RerankResponse, Problem> {
    begin(app, caller, bytes)?.0.await
}

/// The `most` relevant documents; the first embedding is the query's.
fn response(embedded: Embedded, most: usize, mut texts: Option<Vec<String>>) -> RerankResponse {
    let Embedded { model, vectors, tokens } = embedded;
    let mut vectors = vectors.into_iter();
    let query = vectors.next().unwrap_or_default();
    let mut scores: Vec<(u32, f32)> =
        (0..).zip(vectors).map(|(index, vector)| (index, cosine(&query, &vector))).collect();
    // Equal ones keep their order.
    scores.sort_by(|one, other| other.1.total_cmp(&one.1));
    scores.truncate(most);
    let result = |(index, relevance_score): (u32, f32)| RerankResult {
        index,
        relevance_score,
        document: texts
            .as_mut()
            .and_then(|texts| Some(std::mem::take(texts.get_mut(index as usize)?)))
            .map(RerankDocument::Plain),
    };
    RerankResponse {
        model,
        results: scores.into_iter().map(result).collect(),
        usage: EmbeddingUsage { prompt_tokens: tokens, total_tokens: tokens },
    }
}

/// Cosine of the angle between two vectors; 0 if one has no length.
#[expect(clippy::cast_possible_truncation, reason = "summed in f64, returned as f32")]
fn cosine(one: &[f32], other: &[f32]) -> f32 {
    let dot = |one: &[f32], other: &[f32]| -> f64 {
        one.iter().zip(other).map(|(&a, &b)| f64::from(a) * f64::from(b)).sum()
    };
    let lengths = (dot(one, one) * dot(other, other)).sqrt();
    if lengths > 0.0 { (dot(one, other) / lengths) as f32 } else { 0.0 }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn documents_come_by_their_angles_and_equal_ones_in_their_order() {
        let vectors = vec![
            vec![2.0, 0.0],
            vec![0.0, 3.0],
            vec![0.5, 0.5],
            vec![0.0, 0.0],
            vec![9.0, 0.0],
            vec![1.0, 1.0],
        ];
        let embedded = Embedded { model: "larkfen-find/q8_0".to_owned(), vectors, tokens: 9 };
        let texts = ["a", "b", "c", "d", "e"].map(str::to_owned).to_vec();
        let found = response(embedded, 4, Some(texts));
        let order: Vec<u32> = found.results.iter().map(|result| result.index).collect();
        assert_eq!(order, [3, 1, 4, 0]);
        assert!((found.results[0].relevance_score - 1.0).abs() < 1e-6);
        assert!((found.results[1].relevance_score - 0.5_f32.sqrt()).abs() < 1e-6);
        let text = found.results[1].document.clone().map(RerankDocument::into_text);
        assert_eq!(text.as_deref(), Some("b"));
    }
}
