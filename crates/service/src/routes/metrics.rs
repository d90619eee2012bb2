//! `GET /metrics`.

use actix_web::{HttpResponse, get, web};

use super::App;
use crate::observing::metrics::CONTENT_TYPE;

/// Returns metrics in the OpenMetrics text format.
#[utoipa::path(
    tag = "service",
    responses((status = 200, description = "OpenMetrics text", content_type = "application/openmetrics-text; version=1.0.0; charset=utf-8"))
)]
#[get("/metrics")]
pub(super) async fn metrics(app: web::Data<App>) -> HttpResponse {
    HttpResponse::Ok().content_type(CONTENT_TYPE).body(app.metrics.text(&app.status()))
}
