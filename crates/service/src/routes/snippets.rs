//! `GET /manage/v1/snippets`.

use actix_web::{HttpResponse, get, web};
use deft_protocol::Problem;
use deft_protocol::manage::Snippet;
use serde::Deserialize;
use utoipa::IntoParams;

use super::App;
use super::respond::ManageError;
use crate::answering::snippets::{Called, snippets};

/// Whose snippets.
#[derive(Debug, Deserialize, IntoParams)]
pub(super) struct SnippetsQuery {
    /// Model or variant.
    model: String,
}

/// Returns working calls of a model of this server: one for each of its tasks in each language.
#[utoipa::path(
    tag = "depot",
    params(SnippetsQuery),
    responses((status = 200, body = Vec<Snippet>), (status = "default", body = Problem, content_type = "application/problem+json"))
)]
#[get("/manage/v1/snippets")]
pub(super) async fn list_snippets(
    app: web::Data<App>,
    query: web::Query<SnippetsQuery>,
) -> Result<HttpResponse, ManageError> {
    let registered = app.loads.resolve(&query.model)?;
    let called = Called {
        address: &app.address,
        model: &registered.name.to_string(),
        serves: &registered.facts.serves,
        needs_key: app.permission.answers_need_key(),
    };
    Ok(HttpResponse::Ok().json(snippets(&called)))
}
