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
    let reports = app.fleet.reports();
    let statuses = futures_util::stream::unfold(
        (app, reports, true),
        |(app, mut reports, first)| async move {
            if !first {
                reports.changed().await.ok()?;
            }
            reports.mark_unchanged();
            let status = streaming::event(&app.status().await);
            Some((Ok::<_, Infallible>(status), (app, reports, false)))
        },
    );
    streaming::response(statuses)
}
