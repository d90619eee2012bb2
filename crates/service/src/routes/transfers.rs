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

/// Lists running transfers and the latest finished ones, newest first.
#[utoipa::path(tag = "transfers", responses((status = 200, body = Vec<Transfer>)))]
#[get("/manage/v1/transfers")]
pub(super) async fn list_transfers(app: web::Data<App>) -> HttpResponse {
    HttpResponse::Ok().json(app.depot_files.transfers.all())
}

/// Returns one transfer.
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
    Ok(HttpResponse::Ok().json(app.depot_files.transfers.get(*id)?))
}

/// Cancels a transfer, and removes its partial files.
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
    let cancel = |app: Arc<App>| async move { app.depot_files.transfers.cancel(id).await };
    Ok(HttpResponse::Ok().json(change(&app, cancel).await?))
}

/// Imports a model file into the depot.
#[utoipa::path(
    tag = "transfers",
    request_body = ImportRequest,
    responses((status = 202, body = Transfer), (status = "default", body = Problem, content_type = "application/problem+json"))
)]
#[post("/manage/v1/depot/import")]
pub(super) async fn import(app: web::Data<App>, bytes: Body) -> Result<HttpResponse, ManageError> {
    let request: ImportRequest = body(&bytes.0)?;
    Ok(HttpResponse::Accepted()
        .json(change(&app, |app| async move { app.depot_files.import(&request).await }).await?))
}

/// Copies the files of a variant into a folder.
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
    Ok(HttpResponse::Accepted().json(
        change(&app, |app| async move { app.depot_files.export(&registered, &request) }).await?,
    ))
}

/// Reads stored files and compares their digests.
#[utoipa::path(
    tag = "transfers",
    request_body = VerifyRequest,
    responses((status = 202, body = Transfer), (status = "default", body = Problem, content_type = "application/problem+json"))
)]
#[post("/manage/v1/depot/verify")]
pub(super) async fn verify(app: web::Data<App>, bytes: Body) -> Result<HttpResponse, ManageError> {
    let request: VerifyRequest = body(&bytes.0)?;
    Ok(HttpResponse::Accepted()
        .json(change(&app, |app| async move { app.depot_files.verify(&request).await }).await?))
}

/// Lists the models in a folder of the service's machine and below it; nothing is imported.
#[utoipa::path(
    tag = "depot",
    request_body = ScanRequest,
    responses((status = 200, body = Vec<FoundModel>), (status = "default", body = Problem, content_type = "application/problem+json"))
)]
#[post("/manage/v1/depot/scan")]
pub(super) async fn scan(app: web::Data<App>, bytes: Body) -> Result<HttpResponse, ManageError> {
    let request: ScanRequest = body(&bytes.0)?;
    Ok(HttpResponse::Ok().json(app.depot_files.scan(&request.folder).await?))
}

/// Returns the disk usage of the depot.
#[utoipa::path(
    tag = "depot",
    responses((status = 200, body = DepotUsage), (status = "default", body = Problem, content_type = "application/problem+json"))
)]
#[get("/manage/v1/usage")]
pub(super) async fn usage(app: web::Data<App>) -> Result<HttpResponse, ManageError> {
    Ok(HttpResponse::Ok().json(app.depot_files.usage().await?))
}
