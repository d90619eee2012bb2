//! `POST /v1/rerank`.

use actix_web::{HttpResponse, post, web};
use deft_protocol::Problem;
use deft_protocol::chat::ErrorBody;
use deft_protocol::embeddings::EmbeddingUsage;
use deft_protocol::rerank::{RerankDocument, RerankRequest, RerankResponse, RerankResult};

use super::App;
use super::caller::Caller;
use super::respond::{Body, ChatError, body};
use super::streaming::Patience;
use super::{fields, streaming};
use crate::answering::gateway::Embedded;

/// Orders documents by their relevance to a query: with a cross-encoder, or by the angles between embeddings.
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
    let (call, patience) = app.arrive(&request.model, caller);
    let app = app.clone();
    let made = async move {
        let RerankRequest { model, query, documents, top_n, return_documents, user } = request;
        let texts: Vec<String> = documents.into_iter().map(RerankDocument::into_text).collect();
        let returned = return_documents.unwrap_or(false).then(|| texts.clone());
        let ranked = app.gateway.rank(call, &model, query, texts, user).await?;
        let most = top_n.map_or(usize::MAX, |most| most as usize);
        Ok(response(ranked, most, returned))
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

/// The `most` relevant documents.
fn response(ranked: Embedded<f32>, most: usize, mut texts: Option<Vec<String>>) -> RerankResponse {
    let Embedded { model, values, tokens } = ranked;
    let mut scores: Vec<(u32, f32)> = (0..).zip(values).collect();
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn documents_come_by_their_relevance_and_equal_ones_in_their_order() {
        let values = vec![0.0, 0.7, -0.1, 1.0, 0.7];
        let ranked = Embedded { model: "larkfen-find/q8_0".to_owned(), values, tokens: 9 };
        let texts = ["a", "b", "c", "d", "e"].map(str::to_owned).to_vec();
        let found = response(ranked, 4, Some(texts));
        let order: Vec<u32> = found.results.iter().map(|result| result.index).collect();
        assert_eq!(order, [3, 1, 4, 0]);
        assert!((found.results[1].relevance_score - 0.7).abs() < 1e-6);
        let text = found.results[1].document.clone().map(RerankDocument::into_text);
        assert_eq!(text.as_deref(), Some("b"));
    }
}
