//! `/manage/v1/profiles`.

use std::sync::Arc;

use actix_web::{HttpResponse, delete, get, put, web};
use deft_protocol::Problem;
use deft_protocol::manage::{Profile, ProfileSettings};

use super::respond::{Body, ManageError, body};
use super::{App, change};

/// Lists the profiles by name.
#[utoipa::path(tag = "profiles", responses((status = 200, body = Vec<Profile>)))]
#[get("/manage/v1/profiles")]
pub(super) async fn list_profiles(app: web::Data<App>) -> HttpResponse {
    HttpResponse::Ok().json(app.profiles.all())
}

/// Describes a profile.
#[utoipa::path(
    tag = "profiles",
    params(("name" = String, Path)),
    responses((status = 200, body = Profile), (status = "default", body = Problem, content_type = "application/problem+json"))
)]
#[get("/manage/v1/profiles/{name}")]
pub(super) async fn show_profile(
    app: web::Data<App>,
    name: web::Path<String>,
) -> Result<HttpResponse, ManageError> {
    Ok(HttpResponse::Ok().json(app.profiles.get(&name)?))
}

/// Saves a profile, in place of one of the same name.
#[utoipa::path(
    tag = "profiles",
    params(("name" = String, Path)),
    request_body = ProfileSettings,
    responses((status = 200, body = Profile), (status = "default", body = Problem, content_type = "application/problem+json"))
)]
#[put("/manage/v1/profiles/{name}")]
pub(super) async fn save_profile(
    app: web::Data<App>,
    name: web::Path<String>,
    bytes: Body,
) -> Result<HttpResponse, ManageError> {
    let settings: ProfileSettings = body(&bytes.0)?;
    let name = name.into_inner();
    let save = |app: Arc<App>| async move { app.profiles.save(&name, settings).await };
    Ok(HttpResponse::Ok().json(change(&app, save).await?))
}

/// Removes a profile; its model stays.
#[utoipa::path(
    tag = "profiles",
    params(("name" = String, Path)),
    responses((status = 200, body = Profile), (status = "default", body = Problem, content_type = "application/problem+json"))
)]
#[delete("/manage/v1/profiles/{name}")]
pub(super) async fn remove_profile(
    app: web::Data<App>,
    name: web::Path<String>,
) -> Result<HttpResponse, ManageError> {
    let name = name.into_inner();
    let remove = |app: Arc<App>| async move { app.profiles.remove(&name).await };
    Ok(HttpResponse::Ok().json(change(&app, remove).await?))
}
