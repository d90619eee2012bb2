//! `GET /manage/v1/history`.

use actix_web::{HttpResponse, get, web};
use chrono::Utc;
use deft_protocol::Problem;
use deft_protocol::manage::{History, Span};
use serde::Deserialize;
use utoipa::IntoParams;

use super::App;
use super::respond::ManageError;
use crate::depot::catalogue::database_problem;
use crate::records;

/// Time span.
#[derive(Debug, Deserialize, IntoParams)]
pub(super) struct HistoryQuery {
    /// `hour`, `day` or `week`; the last hour by default.
    #[param(inline)]
    span: Option<Span>,
}

/// Returns memory, speed and load over time.
#[utoipa::path(
    tag = "service",
    params(HistoryQuery),
    responses((status = 200, body = History), (status = "default", body = Problem, content_type = "application/problem+json"))
)]
#[get("/manage/v1/history")]
pub(super) async fn history(
    app: web::Data<App>,
    query: web::Query<HistoryQuery>,
) -> Result<HttpResponse, ManageError> {
    let (span, until) = (query.span.unwrap_or_default(), Utc::now());
    let series = records::history::series(&app.database, app.node, span, until)
        .await
        .map_err(|error| database_problem(&error))?;
    Ok(HttpResponse::Ok().json(History { span, until, step_seconds: span.step_seconds(), series }))
}
