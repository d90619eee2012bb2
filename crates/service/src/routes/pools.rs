//! `/manage/v1/pools`.

use actix_web::{HttpResponse, get, put, web};
use deft_protocol::Problem;
use deft_protocol::manage::{LimitRequest, Pool};

use super::respond::{Body, ManageError, body};
use super::{App, change};

/// Lists all pools.
#[utoipa::path(tag = "pools", responses((status = 200, body = Vec<Pool>)))]
#[get("/manage/v1/pools")]
pub(super) async fn list_pools(app: web::Data<App>) -> HttpResponse {
    HttpResponse::Ok().json(&app.fleet.reports().borrow().pools)
}

/// Sets the limit of a pool until the service stops. Loaded models stay loaded.
#[utoipa::path(
    tag = "pools",
    params(("name" = String, Path)),
    request_body = LimitRequest,
    responses((status = 200, body = Pool), (status = "default", body = Problem, content_type = "application/problem+json"))
)]
#[put("/manage/v1/pools/{name}")]
pub(super) async fn limit(
    app: web::Data<App>,
    name: web::Path<String>,
    bytes: Body,
) -> Result<HttpResponse, ManageError> {
    let LimitRequest { limit } = body(&bytes.0)?;
    let name = name.into_inner();
    let change = change(&app, |app| async move { app.fleet.limit(name, limit).await });
    Ok(HttpResponse::Ok().json(change.await?))
}
