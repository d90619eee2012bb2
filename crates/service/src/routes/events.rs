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
    let (transfers, calls) = (app.keeping.transfers.changes(), app.board.changes());
    // The first status is sent at once.
    reports.mark_changed();
    database.mark_unchanged();
    let start = (app, reports, database, transfers, calls);
    let statuses = futures_util::stream::unfold(start, |state| async {
        let (app, mut reports, mut database, mut transfers, mut calls) = state;
        tokio::select! {
            changed = reports.changed() => changed.ok()?,
            changed = database.changed() => changed.ok()?,
            changed = transfers.changed() => changed.ok()?,
            changed = calls.changed() => changed.ok()?,
        }
        let status = streaming::event(&app.status());
        Some((Ok::<_, Infallible>(status), (app, reports, database, transfers, calls)))
    });
    streaming::response(statuses)
}
