//! `/manage/v1/depot`.

use std::collections::BTreeSet;
use std::path::Path;

use actix_web::{HttpResponse, get, post, web};
use deft_protocol::Problem;
use deft_protocol::manage::{InstanceState, RegisterRequest, Variant};

use super::App;
use super::respond::{Body, ManageError, body};
use crate::wire;

/// Names of the variants that have an instance ready.
pub(super) fn loaded_names(app: &App) -> BTreeSet<String> {
    let reports = app.fleet.reports();
    let report = reports.borrow();
    let ready = report.instances.iter().filter(|found| found.state == InstanceState::Ready);
    ready.map(|instance| instance.name.clone()).collect()
}

/// All variants of the depot with their facts.
#[utoipa::path(tag = "depot", responses((status = 200, body = Vec<Variant>)))]
#[get("/manage/v1/depot")]
pub(super) async fn list_depot(app: web::Data<App>) -> HttpResponse {
    let loaded = loaded_names(&app);
    let variants: Vec<Variant> = app
        .catalogue
        .all()
        .iter()
        .map(|registered| wire::variant(registered, loaded.contains(&registered.name.to_string())))
        .collect();
    HttpResponse::Ok().json(variants)
}

/// Takes a model file into the depot, where it is.
#[utoipa::path(
    tag = "depot",
    request_body = RegisterRequest,
    responses((status = 201, body = Variant), (status = "default", body = Problem))
)]
#[post("/manage/v1/depot/register")]
pub(super) async fn register(
    app: web::Data<App>,
    bytes: Body,
) -> Result<HttpResponse, ManageError> {
    let request: RegisterRequest = body(&bytes.0)?;
    let path = Path::new(&request.path);
    let registered = app.catalogue.register(path, request.name.as_deref()).await?;
    let loaded = loaded_names(&app).contains(&registered.name.to_string());
    Ok(HttpResponse::Created().json(wire::variant(&registered, loaded)))
}

/// The variant that a model's name means now.
#[utoipa::path(
    tag = "depot",
    params(("model" = String, Path)),
    responses((status = 200, body = Variant), (status = "default", body = Problem))
)]
#[get("/manage/v1/depot/{model}")]
pub(super) async fn inspect_model(
    app: web::Data<App>,
    model: web::Path<String>,
) -> Result<HttpResponse, ManageError> {
    inspect(&app, &model)
}

/// One variant of a model.
#[utoipa::path(
    tag = "depot",
    params(("model" = String, Path), ("variant" = String, Path)),
    responses((status = 200, body = Variant), (status = "default", body = Problem))
)]
#[get("/manage/v1/depot/{model}/{variant}")]
pub(super) async fn inspect_variant(
    app: web::Data<App>,
    name: web::Path<(String, String)>,
) -> Result<HttpResponse, ManageError> {
    let (model, variant) = name.into_inner();
    inspect(&app, &format!("{model}/{variant}"))
}

fn inspect(app: &App, name: &str) -> Result<HttpResponse, ManageError> {
    let registered = app.loads.resolve(name)?;
    let loaded = loaded_names(app).contains(&registered.name.to_string());
    Ok(HttpResponse::Ok().json(wire::variant(&registered, loaded)))
}
