//! `POST /manage/v1/checks`: tests a model.

use actix_web::{HttpResponse, post, web};
use deft_protocol::Problem;
use deft_protocol::manage::{CheckReport, CheckRequest};

use super::App;
use super::respond::{Body, ManageError, body};
use crate::answering::checkup;

/// Checks a model: template, tokenizer, numbers, a short answer. The model is loaded for that.
#[utoipa::path(
    tag = "depot",
    request_body = CheckRequest,
    responses((status = 200, body = CheckReport), (status = "default", body = Problem, content_type = "application/problem+json"))
)]
#[post("/manage/v1/checks")]
pub(super) async fn check(app: web::Data<App>, bytes: Body) -> Result<HttpResponse, ManageError> {
    let request: CheckRequest = body(&bytes.0)?;
    Ok(HttpResponse::Ok().json(checkup::of(&app.gateway, &request.model).await?))
}
