//! `/manage/v1/calls`: under way, and in the records.

use actix_web::{HttpResponse, delete, get, web};
use deft_protocol::Problem;
use deft_protocol::manage::{CallRecord, RunningCall};
use serde::Deserialize;
use utoipa::IntoParams;
use uuid::Uuid;

use super::App;
use super::respond::ManageError;
use crate::depot::catalogue::database_problem;
use crate::records;

/// Most calls listed at once.
const MOST: u32 = 1000;

/// Which calls.
#[derive(Debug, Deserialize, IntoParams)]
pub(super) struct CallsQuery {
    /// Number of calls; 50 by default.
    count: Option<u32>,
}

/// Lists the latest finished calls, newest first, without their texts.
#[utoipa::path(
    tag = "service",
    params(CallsQuery),
    responses((status = 200, body = Vec<CallRecord>), (status = "default", body = Problem, content_type = "application/problem+json"))
)]
#[get("/manage/v1/calls")]
pub(super) async fn latest(
    app: web::Data<App>,
    query: web::Query<CallsQuery>,
) -> Result<HttpResponse, ManageError> {
    let count = query.count.unwrap_or(50).min(MOST);
    let calls = records::calls::latest(&app.database, app.node, count)
        .await
        .map_err(|error| database_problem(&error))?;
    Ok(HttpResponse::Ok().json(calls))
}

/// Lists running calls, oldest first.
#[utoipa::path(tag = "service", responses((status = 200, body = Vec<RunningCall>)))]
#[get("/manage/v1/calls/running")]
pub(super) async fn running(app: web::Data<App>) -> HttpResponse {
    let instances = app.fleet.reports().borrow().instances.clone();
    HttpResponse::Ok().json(app.board.all(&instances))
}

/// Cancels a running call; its caller gets an error.
#[utoipa::path(
    tag = "service",
    params(("id" = Uuid, Path, description = "The call")),
    responses((status = 204), (status = "default", body = Problem, content_type = "application/problem+json"))
)]
#[delete("/manage/v1/calls/{id}")]
pub(super) async fn end(
    app: web::Data<App>,
    id: web::Path<Uuid>,
) -> Result<HttpResponse, ManageError> {
    app.board.end(*id)?;
    Ok(HttpResponse::NoContent().finish())
}
