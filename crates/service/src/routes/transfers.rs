//! `/manage/v1/transfers`, and what begins one.

use std::sync::Arc;

use actix_web::{HttpResponse, delete, get, post, web};
use deft_protocol::Problem;
use deft_protocol::manage::{
    DepotUsage, ExportRequest, FoundModel, ImportRequest, ScanRequest, Transfer, VerifyRequest,
};
use uuid::Uuid;

use super::respond::{Body, ManageError, body};
use super::{App, change};

/// Running transfers and the latest that ended, the newest first.
#[utoipa::path(tag = "transfers", responses((status = 200, body = Vec<Transfer>)))]
#[get("/manage/v1/transfers")]
pub(super) async fn list_transfers(app: web::Data<App>) -> HttpResponse {
    HttpResponse::Ok().json(app.keeping.transfers.all())
}

/// One transfer.
#[utoipa::path(
    tag = "transfers",
    params(("id" = Uuid, Path)),
    responses((status = 200, body = Transfer), (status = "default", body = Problem, content_type = "application/problem+json"))
)]
#[get("/manage/v1/transfers/{id}")]
pub(super) async fn transfer(
    app: web::Data<App>,
    id: web::Path<Uuid>,
) -> Result<HttpResponse, ManageError> {
    Ok(HttpResponse::Ok().json(app.keeping.transfers.get(*id)?))
}

/// Cancels a transfer; what it had begun is removed.
#[utoipa::path(
    tag = "transfers",
    params(("id" = Uuid, Path)),
    responses((status = 200, body = Transfer), (status = "default", body = Problem, content_type = "application/problem+json"))
)]
#[delete("/manage/v1/transfers/{id}")]
pub(super) async fn cancel(
    app: web::Data<App>,
    id: web::Path<Uuid>,
) -> Result<HttpResponse, ManageError> {
    let id = *id;
    let cancel = |app: Arc<App>| async move { app.keeping.transfers.cancel(id).await };
    Ok(HttpResponse::Ok().json(change(&app, cancel).await?))
}

/// Takes a model file into the depot, under its own name among the depot's own files.
#[utoipa::path(
    tag = "transfers",
    request_body = ImportRequest,
    responses((status = 202, body = Transfer), (status = "default", body = Problem, content_type = "application/problem+json"))
)]
#[post("/manage/v1/depot/import")]
pub(super) async fn import(app: web::Data<App>, bytes: Body) -> Result<HttpResponse, ManageError> {
    let request: ImportRequest = body(&bytes.0)?;
    Ok(HttpResponse::Accepted()
        .json(change(&app, |app| async move { app.keeping.import(&request).await }).await?))
}

/// Writes a variant's files into a folder.
#[utoipa::path(
    tag = "transfers",
    params(("model" = String, Path), ("variant" = String, Path)),
    request_body = ExportRequest,
    responses((status = 202, body = Transfer), (status = "default", body = Problem, content_type = "application/problem+json"))
)]
#[post("/manage/v1/depot/{model}/{variant}/export")]
pub(super) async fn export(
    app: web::Data<App>,
    name: web::Path<(String, String)>,
    bytes: Body,
) -> Result<HttpResponse, ManageError> {
    let request: ExportRequest = body(&bytes.0)?;
    let (model, variant) = name.into_inner();
    let registered = app.loads.resolve(&format!("{model}/{variant}"))?;
    Ok(HttpResponse::Accepted()
        .json(change(&app, |app| async move { app.keeping.export(&registered, &request) }).await?))
}

/// Reads everything that is kept again and compares digests.
#[utoipa::path(
    tag = "transfers",
    request_body = VerifyRequest,
    responses((status = 202, body = Transfer), (status = "default", body = Problem, content_type = "application/problem+json"))
)]
#[post("/manage/v1/depot/verify")]
pub(super) async fn verify(app: web::Data<App>, bytes: Body) -> Result<HttpResponse, ManageError> {
    let request: VerifyRequest = body(&bytes.0)?;
    Ok(HttpResponse::Accepted()
        .json(change(&app, |app| async move { app.keeping.verify(&request).await }).await?))
}

/// Models in a folder of the service's machine and all below it; nothing is taken in.
#[utoipa::path(
    tag = "depot",
    request_body = ScanRequest,
    responses((status = 200, body = Vec<FoundModel>), (status = "default", body = Problem, content_type = "application/problem+json"))
)]
#[post("/manage/v1/depot/scan")]
pub(super) async fn scan(app: web::Data<App>, bytes: Body) -> Result<HttpResponse, ManageError> {
    let request: ScanRequest = body(&bytes.0)?;
    Ok(HttpResponse::Ok().json(app.keeping.scan(&request.folder).await?))
}

/// What the depot takes of the disk.
#[utoipa::path(
    tag = "depot",
    responses((status = 200, body = DepotUsage), (status = "default", body = Problem, content_type = "application/problem+json"))
)]
#[get("/manage/v1/usage")]
pub(super) async fn usage(app: web::Data<App>) -> Result<HttpResponse, ManageError> {
    Ok(HttpResponse::Ok().json(app.keeping.usage().await?))
}
