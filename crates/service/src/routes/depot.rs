//! `/manage/v1/depot`.

use std::collections::BTreeSet;
use std::path::Path;
use std::sync::Arc;

use actix_web::{HttpResponse, delete, get, post, web};
use deft_protocol::Problem;
use deft_protocol::manage::{
    InstanceState, NotUnderstood, RegisterRequest, Removal, RenameRequest, Variant,
};
use serde::Deserialize;
use utoipa::IntoParams;

use super::respond::{Body, ManageError, body};
use super::{App, change};
use crate::records::calls;
use crate::records::variants::Registered;
use crate::wire;

/// Names of the variants that have an instance ready.
pub(super) fn loaded_names(app: &App) -> BTreeSet<String> {
    let reports = app.fleet.reports();
    let report = reports.borrow();
    let ready = report.instances.iter().filter(|found| found.state == InstanceState::Ready);
    ready.map(|instance| instance.name.clone()).collect()
}

/// A variant with its use; without it while the database is away.
async fn described(app: &App, registered: &Registered) -> Variant {
    let name = registered.name.to_string();
    let uses = calls::uses(&app.database, app.node, Some(&name)).await.unwrap_or_default();
    let used = uses.get(&name).copied().unwrap_or_default();
    wire::variant(registered, loaded_names(app).contains(&name), used)
}

/// Lists the variants of the depot with their facts, without the long ones: the request for a single variant returns its
/// template and a rendered example.
#[utoipa::path(tag = "depot", responses((status = 200, body = Vec<Variant>)))]
#[get("/manage/v1/depot")]
pub(super) async fn list_depot(app: web::Data<App>) -> HttpResponse {
    let loaded = loaded_names(&app);
    let uses = calls::uses(&app.database, app.node, None).await.unwrap_or_default();
    let describe = |registered: &Arc<Registered>| {
        let name = registered.name.to_string();
        let used = uses.get(&name).copied().unwrap_or_default();
        let mut variant = wire::variant(registered, loaded.contains(&name), used);
        (variant.facts.template, variant.facts.sample) = (None, None);
        variant
    };
    let variants: Vec<Variant> = app.catalogue.listed().iter().map(describe).collect();
    HttpResponse::Ok().json(variants)
}

/// Lists folders of the depot that this version cannot read, with the reasons. They are left unchanged.
#[utoipa::path(
    tag = "depot",
    responses((status = 200, body = Vec<NotUnderstood>), (status = "default", body = Problem, content_type = "application/problem+json"))
)]
#[get("/manage/v1/not-understood")]
pub(super) async fn not_understood(app: web::Data<App>) -> Result<HttpResponse, ManageError> {
    Ok(HttpResponse::Ok().json(app.depot_files.not_understood().await?))
}

/// Registers a model file without copying it.
#[utoipa::path(
    tag = "depot",
    request_body = RegisterRequest,
    responses((status = 201, body = Variant), (status = "default", body = Problem, content_type = "application/problem+json"))
)]
#[post("/manage/v1/depot/register")]
pub(super) async fn register(
    app: web::Data<App>,
    bytes: Body,
) -> Result<HttpResponse, ManageError> {
    let request: RegisterRequest = body(&bytes.0)?;
    let register = |app: Arc<App>| async move {
        let path = Path::new(&request.path);
        match request.temporary {
            true => app.catalogue.register_temporarily(path).await,
            false => app.catalogue.register(path, request.name.as_deref()).await,
        }
    };
    let registered = change(&app, register).await?;
    Ok(HttpResponse::Created().json(described(&app, &registered).await))
}

/// Returns the variant that the name of a model means at present.
#[utoipa::path(
    tag = "depot",
    params(("model" = String, Path)),
    responses((status = 200, body = Variant), (status = "default", body = Problem, content_type = "application/problem+json"))
)]
#[get("/manage/v1/depot/{model}")]
pub(super) async fn inspect_model(
    app: web::Data<App>,
    model: web::Path<String>,
) -> Result<HttpResponse, ManageError> {
    inspect(&app, &model).await
}

/// Returns one variant of a model.
#[utoipa::path(
    tag = "depot",
    params(("model" = String, Path), ("variant" = String, Path)),
    responses((status = 200, body = Variant), (status = "default", body = Problem, content_type = "application/problem+json"))
)]
#[get("/manage/v1/depot/{model}/{variant}")]
pub(super) async fn inspect_variant(
    app: web::Data<App>,
    name: web::Path<(String, String)>,
) -> Result<HttpResponse, ManageError> {
    let (model, variant) = name.into_inner();
    inspect(&app, &format!("{model}/{variant}")).await
}

async fn inspect(app: &App, name: &str) -> Result<HttpResponse, ManageError> {
    let registered = app.loads.resolve(name)?;
    Ok(HttpResponse::Ok().json(described(app, &registered).await))
}

/// The name of a variant in a path.
type Named = web::Path<(String, String)>;

fn resolve(app: &App, name: Named) -> Result<Arc<Registered>, ManageError> {
    let (model, variant) = name.into_inner();
    Ok(app.loads.resolve(&format!("{model}/{variant}"))?)
}

/// Renames a variant, which must not be loaded.
#[utoipa::path(
    tag = "depot",
    params(("model" = String, Path), ("variant" = String, Path)),
    request_body = RenameRequest,
    responses((status = 200, body = Variant), (status = "default", body = Problem, content_type = "application/problem+json"))
)]
#[post("/manage/v1/depot/{model}/{variant}/rename")]
pub(super) async fn rename(
    app: web::Data<App>,
    name: Named,
    bytes: Body,
) -> Result<HttpResponse, ManageError> {
    let request: RenameRequest = body(&bytes.0)?;
    let registered = resolve(&app, name)?;
    let rename =
        |app: Arc<App>| async move { app.depot_files.rename(&registered, &request.name).await };
    let renamed = change(&app, rename).await?;
    Ok(HttpResponse::Ok().json(described(&app, &renamed).await))
}

/// How to remove.
#[derive(Debug, Deserialize, IntoParams)]
pub(super) struct RemoveQuery {
    /// Whether only to report what it would free.
    #[serde(default)]
    dry_run: bool,
}

/// Removes a variant, which must not be loaded, from the depot. A file that is only registered is not deleted.
#[utoipa::path(
    tag = "depot",
    params(("model" = String, Path), ("variant" = String, Path), RemoveQuery),
    responses((status = 200, body = Removal), (status = "default", body = Problem, content_type = "application/problem+json"))
)]
#[delete("/manage/v1/depot/{model}/{variant}")]
pub(super) async fn remove(
    app: web::Data<App>,
    name: Named,
    query: web::Query<RemoveQuery>,
) -> Result<HttpResponse, ManageError> {
    let registered = resolve(&app, name)?;
    let only_ask = query.dry_run;
    let remove = |app: Arc<App>| async move { app.depot_files.remove(&registered, only_ask).await };
    Ok(HttpResponse::Ok().json(change(&app, remove).await?))
}
