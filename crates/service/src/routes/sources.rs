//! `/manage/v1/sources`, and what they offer.

use std::sync::Arc;

use actix_web::{HttpResponse, delete, get, post, web};
use deft_protocol::Problem;
use deft_protocol::manage::{
    Preview, PreviewRequest, PullRequest, SearchReport, SourceCheck, SourceReport, SourceRequest,
    Transfer,
};
use serde::Deserialize;
use utoipa::IntoParams;

use super::respond::{Body, ManageError, body};
use super::{App, change};

/// Lists the sources by name.
#[utoipa::path(tag = "sources", responses((status = 200, body = Vec<SourceReport>)))]
#[get("/manage/v1/sources")]
pub(super) async fn list_sources(app: web::Data<App>) -> HttpResponse {
    HttpResponse::Ok().json(app.pulling.sources.reports())
}

/// Adds a source, or sets the token of an existing one. The source is not contacted.
#[utoipa::path(
    tag = "sources",
    request_body = SourceRequest,
    responses((status = 200, body = SourceReport), (status = "default", body = Problem, content_type = "application/problem+json"))
)]
#[post("/manage/v1/sources")]
pub(super) async fn add_source(
    app: web::Data<App>,
    bytes: Body,
) -> Result<HttpResponse, ManageError> {
    let request: SourceRequest = body(&bytes.0)?;
    Ok(HttpResponse::Ok()
        .json(change(&app, |app| async move { app.pulling.sources.add(&request).await }).await?))
}

/// Checks that a source can be reached, and counts its offers.
#[utoipa::path(
    tag = "sources",
    params(("name" = String, Path)),
    responses((status = 200, body = SourceCheck), (status = "default", body = Problem, content_type = "application/problem+json"))
)]
#[post("/manage/v1/sources/{name}/check")]
pub(super) async fn check_source(
    app: web::Data<App>,
    name: web::Path<String>,
) -> Result<HttpResponse, ManageError> {
    Ok(HttpResponse::Ok().json(app.pulling.check(&name).await?))
}

/// Removes a source and its token; models pulled from it stay.
#[utoipa::path(
    tag = "sources",
    params(("name" = String, Path)),
    responses((status = 200, body = SourceReport), (status = "default", body = Problem, content_type = "application/problem+json"))
)]
#[delete("/manage/v1/sources/{name}")]
pub(super) async fn remove_source(
    app: web::Data<App>,
    name: web::Path<String>,
) -> Result<HttpResponse, ManageError> {
    let name = name.into_inner();
    let remove = |app: Arc<App>| async move { app.pulling.sources.remove(&name).await };
    Ok(HttpResponse::Ok().json(change(&app, remove).await?))
}

/// What to look for.
#[derive(Debug, Deserialize, IntoParams)]
pub(super) struct SearchQuery {
    /// Words that an offer must contain, separated by spaces.
    #[serde(default)]
    words: String,
    /// Only this source.
    source: Option<String>,
}

/// Searches the sources, and reports whether each offer fits this machine.
#[utoipa::path(
    tag = "sources",
    params(SearchQuery),
    responses((status = 200, body = SearchReport), (status = "default", body = Problem, content_type = "application/problem+json"))
)]
#[get("/manage/v1/search")]
pub(super) async fn search(
    app: web::Data<App>,
    query: web::Query<SearchQuery>,
) -> Result<HttpResponse, ManageError> {
    let words: Vec<String> = query.words.split_whitespace().map(str::to_owned).collect();
    Ok(HttpResponse::Ok().json(app.pulling.search(&words, query.source.as_deref()).await?))
}

/// Previews an offer on this machine, before its weights are pulled.
#[utoipa::path(
    tag = "sources",
    request_body = PreviewRequest,
    responses((status = 200, body = Preview), (status = "default", body = Problem, content_type = "application/problem+json"))
)]
#[post("/manage/v1/preview")]
pub(super) async fn preview(app: web::Data<App>, bytes: Body) -> Result<HttpResponse, ManageError> {
    let request: PreviewRequest = body(&bytes.0)?;
    Ok(HttpResponse::Ok().json(app.pulling.preview(&request).await?))
}

/// Pulls a model into the depot. If the same pull is running already, that transfer is returned.
#[utoipa::path(
    tag = "transfers",
    request_body = PullRequest,
    responses((status = 202, body = Transfer), (status = "default", body = Problem, content_type = "application/problem+json"))
)]
#[post("/manage/v1/depot/pull")]
pub(super) async fn pull(app: web::Data<App>, bytes: Body) -> Result<HttpResponse, ManageError> {
    let request: PullRequest = body(&bytes.0)?;
    Ok(HttpResponse::Accepted()
        .json(change(&app, |app| async move { app.pulling.pull(&request) }).await?))
}
