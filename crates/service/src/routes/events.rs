//! `GET /manage/v1/events`.

use std::convert::Infallible;
use std::time::Duration;

use actix_web::{HttpResponse, get, web};
use bytes::Bytes;
use deft_protocol::manage::ServiceStatus;
use deft_protocol::{Problem, ProblemKind};
use tokio::sync::{Notify, watch};
use tokio::time::sleep;

use super::respond::ManageError;
use super::{App, streaming};

/// So many may listen at once: each is an open connection.
const MOST_LISTENERS: usize = 256;
/// The status is told no more often, however fast calls come and go.
const TELL_EVERY: Duration = Duration::from_millis(100);

/// The status as an event, written once for all who listen.
#[derive(Default)]
pub(crate) struct Events {
    written: watch::Sender<Bytes>,
    joined: Notify,
}

impl Events {
    /// Listens from now on; nothing where too many do already.
    fn join(&self) -> Option<watch::Receiver<Bytes>> {
        if self.written.receiver_count() >= MOST_LISTENERS {
            return None;
        }
        let listens = self.written.subscribe();
        self.joined.notify_one();
        Some(listens)
    }
}

/// Writes the status whenever it changes, as long as somebody listens.
pub(crate) async fn write(app: web::Data<App>) {
    let (mut reports, mut database) = (app.fleet.reports(), app.database_up.clone());
    let (mut transfers, mut calls) = (app.keeping.transfers.changes(), app.board.changes());
    loop {
        if app.events.written.receiver_count() == 0 {
            app.events.joined.notified().await;
        }
        let changed = tokio::select! {
            changed = reports.changed() => changed,
            changed = database.changed() => changed,
            changed = transfers.changed() => changed,
            changed = calls.changed() => changed,
        };
        if changed.is_err() {
            return;
        }
        app.events.written.send_replace(streaming::event(&app.status()));
        sleep(TELL_EVERY).await;
    }
}

/// The status now and whenever it changes, as server-sent events.
#[utoipa::path(
    tag = "service",
    responses((status = 200, description = "A stream of statuses", body = ServiceStatus))
)]
#[get("/manage/v1/events")]
pub(super) async fn events(app: web::Data<App>) -> Result<HttpResponse, ManageError> {
    // What changes from here on is heard of, and what was before is told first.
    let listens = app.events.join().ok_or_else(|| {
        let detail = format!("{MOST_LISTENERS} programs and pages listen to events already");
        Problem::new(ProblemKind::Busy, "too_many_listeners", detail)
            .with_way_out("close some, or ask for the status now and then instead")
    })?;
    let first = Some(streaming::event(&app.status()));
    let start = (first, listens);
    let statuses = futures_util::stream::unfold(start, |(first, mut listens)| async move {
        let event = match first {
            Some(first) => first,
            None => {
                listens.changed().await.ok()?;
                listens.borrow_and_update().clone()
            }
        };
        Some((Ok::<_, Infallible>(event), (None, listens)))
    });
    Ok(streaming::response(statuses))
}
