//! How a browser gets permission.

use actix_web::http::header::{LOCATION, SET_COOKIE};
use actix_web::{HttpRequest, HttpResponse, get, post, web};
use deft_protocol::manage::{ConsoleLink, ConsoleLinkRequest};
use deft_protocol::{Problem, ProblemKind};
use serde::Deserialize;
use std::time::Instant;
use utoipa::IntoParams;

use super::App;
use super::respond::{Body, ManageError, body};
use crate::permission::{LINK, Peer};

/// Where a browser is sent whose link is not good.
const NOT_GOOD: &str = "/?link=unusable";

fn peer(request: &HttpRequest) -> Peer {
    request.conn_data::<Peer>().copied().unwrap_or(Peer::Unknown)
}

fn fault(error: &std::io::Error) -> ManageError {
    Problem::new(
        ProblemKind::Fault,
        "no_chance",
        format!("the system gives no random numbers: {error}"),
    )
    .into()
}

/// Creates a link that gives one browser permission to manage, once and for some minutes.
#[utoipa::path(
    tag = "service",
    request_body = ConsoleLinkRequest,
    responses((status = 201, body = ConsoleLink), (status = "default", body = Problem, content_type = "application/problem+json"))
)]
#[post("/manage/v1/console/links")]
pub(super) async fn link(
    app: web::Data<App>,
    request: HttpRequest,
    bytes: Body,
) -> Result<HttpResponse, ManageError> {
    let ConsoleLinkRequest { own_browser } = body(&bytes.0)?;
    let only = own_browser.then(|| peer(&request));
    let code = app.permission.sessions.code(only, Instant::now()).map_err(|e| fault(&e))?;
    let address = format!("{}/enter?code={code}", app.address);
    Ok(HttpResponse::Created().json(ConsoleLink { address, valid_seconds: LINK.as_secs() }))
}

/// The code of a link.
#[derive(Debug, Deserialize, IntoParams)]
pub(super) struct EnterQuery {
    /// Code of the link.
    code: String,
}

/// Exchanges the code of a link for a session, and redirects to the console.
#[utoipa::path(
    tag = "service",
    params(EnterQuery),
    responses((status = 303, description = "Redirects to the console, with the cookie of a session if the link was valid"))
)]
#[get("/enter")]
pub(super) async fn enter(
    app: web::Data<App>,
    request: HttpRequest,
    query: web::Query<EnterQuery>,
) -> Result<HttpResponse, ManageError> {
    let entered = app.permission.enter(&query.code, peer(&request)).await.map_err(|e| fault(&e))?;
    let mut response = HttpResponse::SeeOther();
    response.insert_header(("cache-control", "no-store"));
    response.insert_header(("referrer-policy", "no-referrer"));
    match entered {
        Some(cookie) => {
            response.insert_header((LOCATION, "/"));
            response.insert_header((SET_COOKIE, cookie.to_string()));
        }
        None => drop(response.insert_header((LOCATION, NOT_GOOD))),
    }
    Ok(response.finish())
}
