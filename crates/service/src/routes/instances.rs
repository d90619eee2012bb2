//! `/manage/v1/instances`.

use std::sync::Arc;
use std::time::Duration;

use actix_web::{HttpResponse, delete, get, post, web};
use deft_protocol::manage::{InstanceReport, LoadRequest};
use deft_protocol::{Problem, ProblemKind};
use serde::Deserialize;
use utoipa::IntoParams;
use uuid::Uuid;

use super::respond::{Body, ManageError, body};
use super::{App, change};
use crate::fleet::Unload;

/// Lists all instances.
#[utoipa::path(tag = "instances", responses((status = 200, body = Vec<InstanceReport>)))]
#[get("/manage/v1/instances")]
pub(super) async fn list_instances(app: web::Data<App>) -> HttpResponse {
    HttpResponse::Ok().json(&app.fleet.reports().borrow().instances)
}

/// Loads a model, or changes the settings of a loaded one; answers when it is ready.
#[utoipa::path(
    tag = "instances",
    request_body = LoadRequest,
    responses((status = 201, body = InstanceReport), (status = "default", body = Problem, content_type = "application/problem+json"))
)]
#[post("/manage/v1/instances")]
pub(super) async fn load(app: web::Data<App>, bytes: Body) -> Result<HttpResponse, ManageError> {
    let request: LoadRequest = body(&bytes.0)?;
    let load = |app: Arc<App>| async move { app.loads.load(&request).await };
    Ok(HttpResponse::Created().json(change(&app, load).await?))
}

/// Retries to load a failed instance; answers when it is ready.
#[utoipa::path(
    tag = "instances",
    params(("id" = Uuid, Path)),
    responses((status = 200, body = InstanceReport), (status = "default", body = Problem, content_type = "application/problem+json"))
)]
#[post("/manage/v1/instances/{id}/retry")]
pub(super) async fn retry(
    app: web::Data<App>,
    id: web::Path<Uuid>,
) -> Result<HttpResponse, ManageError> {
    let id = *id;
    let reload = |app: Arc<App>| async move { app.loads.retry(id).await };
    Ok(HttpResponse::Ok().json(change(&app, reload).await?))
}

/// Deprecated: the former name of `/manage/v1/instances/{id}/retry`. The next version no longer has it.
#[utoipa::path(
    tag = "instances",
    params(("id" = Uuid, Path)),
    responses((status = 200, body = InstanceReport), (status = "default", body = Problem, content_type = "application/problem+json"))
)]
#[post("/manage/v1/instances/{id}/again")]
pub(super) async fn again(
    app: web::Data<App>,
    id: web::Path<Uuid>,
) -> Result<HttpResponse, ManageError> {
    tracing::warn!(
        "`/manage/v1/instances/{{id}}/again` is now called `/manage/v1/instances/{{id}}/retry`"
    );
    let id = *id;
    let reload = |app: Arc<App>| async move { app.loads.retry(id).await };
    Ok(HttpResponse::Ok().json(change(&app, reload).await?))
}

/// How to unload.
#[derive(Debug, Deserialize, IntoParams)]
pub(super) struct UnloadQuery {
    /// Whether to cancel running calls instead of waiting for them.
    #[serde(default)]
    now: bool,
}

/// Unloads an instance; answers when its memory is free.
#[utoipa::path(
    tag = "instances",
    params(("id" = Uuid, Path), UnloadQuery),
    responses((status = 204, description = "It is unloaded"), (status = "default", body = Problem, content_type = "application/problem+json"))
)]
#[delete("/manage/v1/instances/{id}")]
pub(super) async fn unload(
    app: web::Data<App>,
    id: web::Path<Uuid>,
    query: web::Query<UnloadQuery>,
) -> Result<HttpResponse, ManageError> {
    let how = if query.now { Unload::Now } else { Unload::Drain };
    let id = id.into_inner();
    change(&app, |app| async move { app.loads.unload(id, how).await }).await?;
    Ok(HttpResponse::NoContent().finish())
}

/// What to wait for.
#[derive(Debug, Deserialize, IntoParams)]
pub(super) struct WaitQuery {
    /// Model or variant.
    model: String,
    /// Longest time to wait in seconds; 60 by default.
    seconds: Option<u64>,
}

/// Waits until a model is ready, without loading it.
#[utoipa::path(
    tag = "instances",
    params(WaitQuery),
    responses((status = 200, body = InstanceReport), (status = "default", body = Problem, content_type = "application/problem+json"))
)]
#[get("/manage/v1/wait")]
pub(super) async fn wait(
    app: web::Data<App>,
    query: web::Query<WaitQuery>,
) -> Result<HttpResponse, ManageError> {
    let longest = Duration::from_secs(query.seconds.unwrap_or(60));
    let registered = app.loads.resolve(&query.model)?;
    let name = registered.name.to_string();
    let mut reports = app.fleet.reports();
    let ready = |report: &crate::fleet::FleetReport| {
        let ready = deft_protocol::manage::InstanceState::Ready;
        report.instances.iter().find(|i| i.name == name && i.state == ready).cloned()
    };
    let waiting = reports.wait_for(|report| ready(report).is_some());
    if let Ok(Ok(report)) = tokio::time::timeout(longest, waiting).await {
        return Ok(HttpResponse::Ok().json(ready(&report)));
    }
    let detail = format!("`{name}` is not ready after {} s", longest.as_secs());
    Err(ManageError(
        Problem::new(ProblemKind::Busy, "not_ready", detail)
            .with_way_out(format!("load it: deft load {name}; or show its state: deft status")),
    ))
}
