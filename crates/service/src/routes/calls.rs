//! `GET /manage/v1/calls`.

use actix_web::{HttpResponse, get, web};
use deft_protocol::Problem;
use deft_protocol::manage::CallRecord;
use serde::Deserialize;
use utoipa::IntoParams;

use super::App;
use super::respond::ManageError;
use crate::catalogue::database_problem;
use crate::records;

/// Most calls listed at once.
const MOST: u32 = 1000;

/// Which calls.
#[derive(Debug, Deserialize, IntoParams)]
pub(super) struct CallsQuery {
    /// How many; 50 where absent.
    count: Option<u32>,
}

/// The latest calls, newest first, without any text.
#[utoipa::path(
    tag = "service",
    params(CallsQuery),
    responses((status = 200, body = Vec<CallRecord>), (status = "default", body = Problem))
)]
#[get("/manage/v1/calls")]
pub(super) async fn latest(
    app: web::Data<App>,
    query: web::Query<CallsQuery>,
) -> Result<HttpResponse, ManageError> {
    let count = query.count.unwrap_or(50).min(MOST);
    let calls = records::calls::latest(&app.database, app.node, count)
        .await
        .map_err(|error| database_problem(&error))?;
    Ok(HttpResponse::Ok().json(calls))
}
