//! `GET /manage/v1/events`.

use std::convert::Infallible;
use std::time::Duration;

use actix_web::{HttpResponse, get, web};
use bytes::Bytes;
use deft_protocol::{Problem, ProblemKind, StreamEvent};
use tokio::sync::{Notify, watch};
use tokio::time::sleep;

use super::respond::ManageError;
use super::{App, streaming};

/// Most listeners, if the limit of open files permits: each is a connection.
const MOST_LISTENERS: u64 = 1024;
/// Least time between two reports of the status.
const SEND_EVERY: Duration = Duration::from_millis(100);

/// The status as an event, written once for all who listen.
pub(crate) struct Events {
    written: watch::Sender<Bytes>,
    joined: Notify,
    most: usize,
}

impl Events {
    /// For at most a quarter of the files that may be open.
    pub(crate) fn within(files: Option<u64>) -> Self {
        let most = files.map_or(MOST_LISTENERS, |files| (files / 4).min(MOST_LISTENERS));
        let most = usize::try_from(most).unwrap_or(usize::MAX);
        Self { written: watch::Sender::default(), joined: Notify::new(), most }
    }

    /// Listens from now on; nothing where too many do already.
    fn join(&self) -> Option<watch::Receiver<Bytes>> {
        if self.written.receiver_count() >= self.most {
            return None;
        }
        let listens = self.written.subscribe();
        self.joined.notify_one();
        Some(listens)
    }
}

/// Sends the status after each change, as long as there is a listener.
pub(crate) async fn write(app: web::Data<App>) {
    let (mut reports, mut database) = (app.fleet.reports(), app.database_up.clone());
    let mut tracing = app.traces.changes();
    let (mut transfers, mut calls) = (app.depot_files.transfers.changes(), app.board.changes());
    loop {
        if app.events.written.receiver_count() == 0 {
            app.events.joined.notified().await;
        }
        let changed = tokio::select! {
            changed = reports.changed() => changed,
            changed = database.changed() => changed,
            changed = transfers.changed() => changed,
            changed = calls.changed() => changed,
            changed = tracing.changed() => changed,
        };
        if changed.is_err() {
            return;
        }
        app.events.written.send_replace(streaming::event(&app.status()));
        sleep(SEND_EVERY).await;
    }
}

/// Streams the status, now and whenever it changes, as server-sent events.
#[utoipa::path(
    tag = "service",
    responses(
        (status = 200, description = "A stream of events with a `ServiceStatus` each", body = StreamEvent, content_type = "text/event-stream"),
        (status = "default", description = "The error", body = Problem, content_type = "application/problem+json"),
    )
)]
#[get("/manage/v1/events")]
pub(super) async fn events(app: web::Data<App>) -> Result<HttpResponse, ManageError> {
    // Subscribes before the first report, so that no change is missed.
    let listens = app.events.join().ok_or_else(|| {
        let detail = format!("{} programs and pages already receive events", app.events.most);
        Problem::new(ProblemKind::Overloaded, "too_many_listeners", detail)
            .with_way_out("close some of them, or poll the status instead")
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn as_many_listen_as_there_are_files_for_and_no_more() {
        let listeners = Events::within(Some(40));
        let held: Vec<_> = (0..10).map_while(|_| listeners.join()).collect();
        assert_eq!(held.len(), 10);
        assert!(listeners.join().is_none(), "a quarter of the files is for listeners");
        drop(held);
        assert!(listeners.join().is_some());
        assert_eq!(Events::within(None).most, 1024);
    }
}
