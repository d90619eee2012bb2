//! `/manage/v1/tracing` and `/manage/v1/traces`.

use actix_web::web::{Data, Json, Path, Query};
use actix_web::{delete, get, post};
use deft_protocol::manage::{Trace, TraceSummary, TracesDeleted, Tracing, TracingRequest};
use deft_protocol::{Problem, ProblemKind};
use serde::Deserialize;
use utoipa::IntoParams;
use uuid::Uuid;

use super::App;
use super::respond::{Body, ManageError, body};

/// Lists the models whose calls are traced.
#[utoipa::path(tag = "traces", responses((status = 200, body = Vec<Tracing>)))]
#[get("/manage/v1/tracing")]
pub(super) async fn list_tracing(app: Data<App>) -> Json<Vec<Tracing>> {
    Json(app.traces.on())
}

/// Begins to trace the calls of a model: prompts and answers are kept in memory for a limited time.
#[utoipa::path(
    tag = "traces",
    request_body = TracingRequest,
    responses((status = 200, body = Tracing), (status = "default", body = Problem, content_type = "application/problem+json"))
)]
#[post("/manage/v1/tracing")]
pub(super) async fn begin_tracing(
    app: Data<App>,
    bytes: Body,
) -> Result<Json<Tracing>, ManageError> {
    let request: TracingRequest = body(&bytes.0)?;
    let registered = app.loads.resolve(&request.model)?;
    // A model stands for all of its variants.
    let name = registered.name.to_string();
    let model = if request.model == name { name } else { request.model.clone() };
    Ok(Json(app.traces.begin(&model, &request)?))
}

/// The model that is meant; all by default.
#[derive(Debug, Deserialize, IntoParams)]
pub(super) struct OfModel {
    model: Option<String>,
}

/// Stops tracing.
#[utoipa::path(
    tag = "traces",
    params(OfModel),
    responses((status = 200, body = Vec<Tracing>), (status = "default", body = Problem, content_type = "application/problem+json"))
)]
#[delete("/manage/v1/tracing")]
pub(super) async fn stop_tracing(
    app: Data<App>,
    of: Query<OfModel>,
) -> Result<Json<Vec<Tracing>>, ManageError> {
    let model = of.model.as_deref();
    if let Some(model) = model
        && !app.traces.on().iter().any(|tracing| tracing.model == model)
    {
        let detail = format!("calls of `{model}` are not traced");
        return Err(Problem::new(ProblemKind::Missing, "not_traced", detail).into());
    }
    app.traces.stop(model);
    Ok(Json(app.traces.on()))
}

/// Lists the traces, the newest first.
#[utoipa::path(tag = "traces", responses((status = 200, body = Vec<TraceSummary>)))]
#[get("/manage/v1/traces")]
pub(super) async fn list_traces(app: Data<App>) -> Json<Vec<TraceSummary>> {
    Json(app.traces.list())
}

/// Deletes all traces.
#[utoipa::path(tag = "traces", responses((status = 200, body = TracesDeleted)))]
#[delete("/manage/v1/traces")]
pub(super) async fn delete_traces(app: Data<App>) -> Json<TracesDeleted> {
    Json(TracesDeleted { deleted: app.traces.delete() })
}

/// Returns the trace of a call.
#[utoipa::path(
    tag = "traces",
    params(("call" = Uuid, Path)),
    responses((status = 200, body = Trace), (status = "default", body = Problem, content_type = "application/problem+json"))
)]
#[get("/manage/v1/traces/{call}")]
pub(super) async fn trace(app: Data<App>, call: Path<Uuid>) -> Result<Json<Trace>, ManageError> {
    let found = app.traces.find(*call).ok_or_else(|| {
        let detail = format!("there is no trace of the call `{call}`");
        Problem::new(ProblemKind::Missing, "no_trace", detail)
            .with_way_out("list all traces: deft trace list")
    })?;
    Ok(Json(Trace::clone(&found)))
}
