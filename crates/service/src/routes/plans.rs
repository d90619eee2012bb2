//! `POST /manage/v1/plans`.

use actix_web::{HttpResponse, post, web};
use deft_protocol::Problem;
use deft_protocol::manage::{PlanReport, PlanRequest};

use super::App;
use super::respond::{Body, ManageError, body};

/// Plans loads: the memory they need, part by part, and whether they fit together. Nothing is loaded.
#[utoipa::path(
    tag = "instances",
    request_body = PlanRequest,
    responses((status = 200, body = PlanReport), (status = "default", body = Problem, content_type = "application/problem+json"))
)]
#[post("/manage/v1/plans")]
pub(super) async fn plan(app: web::Data<App>, bytes: Body) -> Result<HttpResponse, ManageError> {
    let request: PlanRequest = body(&bytes.0)?;
    Ok(HttpResponse::Ok().json(app.loads.plan(&request.models).await?))
}
