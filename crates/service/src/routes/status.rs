//! `GET /manage/v1/status`.

use actix_web::{HttpResponse, get, web};
use deft_protocol::manage::ServiceStatus;

use super::App;

/// Returns the status of the service with its pools and instances.
#[utoipa::path(tag = "service", responses((status = 200, body = ServiceStatus)))]
#[get("/manage/v1/status")]
pub(super) async fn status(app: web::Data<App>) -> HttpResponse {
    HttpResponse::Ok().json(app.status())
}
