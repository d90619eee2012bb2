//! `/health`.

use actix_web::{HttpResponse, get, web};
use serde::Serialize;
use utoipa::ToSchema;

use super::App;

/// Health of the service.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct Health {
    /// `ready`, or `degraded` where the records database does not answer.
    state: &'static str,
}

/// Reports that the process runs.
#[utoipa::path(tag = "service", responses((status = 200, description = "It runs")))]
#[get("/health/live")]
pub(super) async fn live() -> HttpResponse {
    HttpResponse::Ok().content_type("text/plain; charset=utf-8").body("live\n")
}

/// Reports that the service answers; `degraded` means that the records database does not answer.
#[utoipa::path(tag = "service", responses((status = 200, body = Health)))]
#[get("/health/ready")]
pub(super) async fn ready(app: web::Data<App>) -> HttpResponse {
    let state = if *app.database_up.borrow() { "ready" } else { "degraded" };
    HttpResponse::Ok().json(Health { state })
}
