//! `/v1/batches`.

use actix_web::web::{Data, Json, Path, Query};
use actix_web::{get, post};
use deft_protocol::batches::{BATCH_PREFIX, Batch, BatchList, BatchRequest};
use deft_protocol::chat::ErrorBody;

use super::App;
use super::fields;
use super::files::PartOfList;
use super::respond::{Body, ChatError, body};

/// Begins to answer the calls of a file in the background.
#[utoipa::path(
    tag = "batches",
    request_body = BatchRequest,
    responses(
        (status = 200, body = Batch),
        (status = "default", description = "The error", body = ErrorBody),
    )
)]
#[post("/v1/batches")]
pub(super) async fn create_batch(app: Data<App>, bytes: Body) -> Result<Json<Batch>, ChatError> {
    let request: BatchRequest = body(&bytes.0)?;
    fields::check(&bytes.0, "BatchRequest")?;
    Ok(Json(app.batches.create(request).await?))
}

/// Lists batches, the newest first.
#[utoipa::path(
    tag = "batches",
    params(PartOfList),
    responses(
        (status = 200, body = BatchList),
        (status = "default", description = "The error", body = ErrorBody),
    )
)]
#[get("/v1/batches")]
pub(super) async fn list_batches(
    app: Data<App>,
    part: Query<PartOfList>,
) -> Result<Json<BatchList>, ChatError> {
    let (after, count) = (part.after(BATCH_PREFIX)?, part.count()?);
    let (data, has_more) = app.batches.list(after, count).await?;
    Ok(Json(BatchList { object: "list".to_owned(), data, has_more }))
}

/// Returns a batch with its progress.
#[utoipa::path(
    tag = "batches",
    params(("id" = String, Path)),
    responses(
        (status = 200, body = Batch),
        (status = "default", description = "The error", body = ErrorBody),
    )
)]
#[get("/v1/batches/{id}")]
pub(super) async fn show_batch(app: Data<App>, id: Path<String>) -> Result<Json<Batch>, ChatError> {
    Ok(Json(app.batches.find(&id).await?))
}

/// Ends a batch; its answers so far are kept.
#[utoipa::path(
    tag = "batches",
    params(("id" = String, Path)),
    responses(
        (status = 200, body = Batch),
        (status = "default", description = "The error", body = ErrorBody),
    )
)]
#[post("/v1/batches/{id}/cancel")]
pub(super) async fn cancel_batch(
    app: Data<App>,
    id: Path<String>,
) -> Result<Json<Batch>, ChatError> {
    Ok(Json(app.batches.cancel(&id).await?))
}
