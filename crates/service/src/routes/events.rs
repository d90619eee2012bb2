//! `GET /manage/v1/events`.

use std::convert::Infallible;

use actix_web::{HttpResponse, get, web};
use deft_protocol::manage::ServiceStatus;

use super::{App, streaming};

/// The status now and whenever it changes, as server-sent events.
#[utoipa::path(
    tag = "service",
    responses((status = 200, description = "A stream of statuses", body = ServiceStatus))
)]
#[get("/manage/v1/events")]
pub(super) async fn events(app: web::Data<App>) -> HttpResponse {
    let (mut reports, mut database) = (app.fleet.reports(), app.database_up.clone());
    // The first status is sent at once.
    reports.mark_changed();
    database.mark_unchanged();
    let start = (app, reports, database);
    let statuses = futures_util::stream::unfold(start, |(app, mut reports, mut database)| async {
        tokio::select! {
            changed = reports.changed() => changed.ok()?,
            changed = database.changed() => changed.ok()?,
        }
        let status = streaming::event(&app.status());
        Some((Ok::<_, Infallible>(status), (app, reports, database)))
    });
    streaming::response(statuses)
}
