//! `GET /manage/v1/events`.

use std::convert::Infallible;
use std::time::Duration;

use actix_web::{HttpResponse, get, web};
use deft_protocol::manage::ServiceStatus;
use tokio::time::Instant;

use super::{App, streaming};

/// The status is told no more often, however fast calls come and go.
const TELL_EVERY: Duration = Duration::from_millis(100);

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
    let start = (app, reports, database, transfers, calls, Instant::now());
    let statuses = futures_util::stream::unfold(start, |state| async move {
        let (app, mut reports, mut database, mut transfers, mut calls, next) = state;
        tokio::time::sleep_until(next).await;
        tokio::select! {
            changed = reports.changed() => changed.ok()?,
            changed = database.changed() => changed.ok()?,
            changed = transfers.changed() => changed.ok()?,
            changed = calls.changed() => changed.ok()?,
        }
        let status = streaming::event(&app.status());
        let next = Instant::now() + TELL_EVERY;
        Some((Ok::<_, Infallible>(status), (app, reports, database, transfers, calls, next)))
    });
    streaming::response(statuses)
}
