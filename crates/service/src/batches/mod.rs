//! Batches: files of calls that are answered in the background.

mod files;
mod lines;
mod runner;

use std::collections::BTreeMap;
use std::path::PathBuf;

use chrono::{TimeDelta, Utc};
use deft_protocol::batches::{
    BATCH_PREFIX, Batch, BatchRequest, BatchStatus, FILE_PREFIX, FilePurpose, id_of,
};
use deft_protocol::{Problem, ProblemKind};
use parking_lot::Mutex;
use sqlx::PgPool;
use tokio::sync::mpsc;
use tokio_util::sync::CancellationToken;
use uuid::Uuid;

use crate::depot::catalogue::database_problem;
use crate::records::batches as records;
use crate::routes::batched::{ENDPOINTS, no_endpoint};
pub(crate) use files::Files;
pub(crate) use runner::{Orders, Runner};

/// Most batches that have not ended.
const MOST_OPEN: usize = 100;
/// How long files and ended batches are kept.
const KEPT_FOR: TimeDelta = TimeDelta::days(30);
/// Longest time window in hours.
const MOST_HOURS: i64 = 7 * 24;

/// A batch that has not ended.
#[derive(Clone)]
struct Open {
    batch: Batch,
    cancel: CancellationToken,
}

/// The batches of this node.
pub(crate) struct Batches {
    pub(crate) files: Files,
    database: PgPool,
    node: Uuid,
    open: Mutex<BTreeMap<Uuid, Open>>,
    orders: mpsc::UnboundedSender<Uuid>,
}

impl Batches {
    /// The batches in the records. Those that have not ended go on when the orders are given to a [`Runner`].
    ///
    /// # Errors
    /// The records cannot be read.
    pub(crate) async fn open(
        folder: PathBuf,
        database: PgPool,
        node: Uuid,
    ) -> Result<(Self, Orders), OpenError> {
        let (orders, taken) = mpsc::unbounded_channel();
        let files = Files::open(folder, database.clone(), node)?;
        let found = records::open(&database, node).await?;
        let all = Self { files, database, node, open: Mutex::default(), orders };
        for batch in found {
            if let Some(id) = id_of(BATCH_PREFIX, &batch.id) {
                all.begin(id, batch);
            }
        }
        Ok((all, Orders(taken)))
    }

    fn begin(&self, id: Uuid, batch: Batch) {
        let cancel = CancellationToken::new();
        if batch.status == BatchStatus::Cancelling {
            cancel.cancel();
        }
        self.open.lock().insert(id, Open { batch, cancel });
        // The runner is gone when the service stops; the next start goes on.
        let _ = self.orders.send(id);
    }

    /// Creates a batch.
    ///
    /// # Errors
    /// A field is invalid, there is no such file, or there are too many batches.
    pub(crate) async fn create(&self, request: BatchRequest) -> Result<Batch, Problem> {
        if !ENDPOINTS.contains(&request.endpoint.as_str()) {
            return Err(no_endpoint(&request.endpoint));
        }
        let hours = hours(&request.completion_window)?;
        let (_, file) = self
            .files
            .find(&request.input_file_id)
            .await
            .map_err(|problem| problem.at_field("input_file_id"))?;
        if file.purpose != FilePurpose::Batch {
            let detail = "`input_file_id` is a file of answers".to_owned();
            let problem = Problem::new(ProblemKind::Invalid, "file_purpose", detail);
            return Err(problem.at_field("input_file_id"));
        }
        if self.open.lock().len() >= MOST_OPEN {
            let detail = format!("{MOST_OPEN} batches have not ended yet");
            return Err(Problem::new(ProblemKind::Overloaded, "many_batches", detail)
                .with_way_out("retry when one has ended: GET /v1/batches lists them"));
        }
        let id = Uuid::now_v7();
        let now = Utc::now().timestamp();
        let batch = Batch {
            id: format!("{BATCH_PREFIX}{}", id.simple()),
            object: "batch".to_owned(),
            endpoint: request.endpoint,
            input_file_id: request.input_file_id,
            completion_window: request.completion_window,
            created_at: now,
            expires_at: now + hours * 3600,
            metadata: request.metadata,
            ..Batch::default()
        };
        self.store(id, &batch).await?;
        self.begin(id, batch.clone());
        Ok(batch)
    }

    async fn store(&self, id: Uuid, batch: &Batch) -> Result<(), Problem> {
        records::store(&self.database, self.node, id, batch)
            .await
            .map_err(|error| database_problem(&error))
    }

    /// A batch by its id.
    ///
    /// # Errors
    /// There is no such batch.
    pub(crate) async fn find(&self, id: &str) -> Result<Batch, Problem> {
        let number = id_of(BATCH_PREFIX, id).ok_or_else(|| no_batch(id))?;
        if let Some(open) = self.open.lock().get(&number) {
            return Ok(open.batch.clone());
        }
        let found = records::find(&self.database, self.node, number).await;
        found.map_err(|error| database_problem(&error))?.ok_or_else(|| no_batch(id))
    }

    /// The newest batches, or the newest before the batch `after`; with whether there are more.
    pub(crate) async fn list(
        &self,
        after: Option<Uuid>,
        count: u32,
    ) -> Result<(Vec<Batch>, bool), Problem> {
        let found = records::latest(&self.database, self.node, after, i64::from(count) + 1).await;
        let mut found = found.map_err(|error| database_problem(&error))?;
        let has_more = found.len() > count as usize;
        found.truncate(count as usize);
        let open = self.open.lock();
        for batch in &mut found {
            let number = id_of(BATCH_PREFIX, &batch.id);
            if let Some(open) = number.and_then(|number| open.get(&number)) {
                batch.clone_from(&open.batch);
            }
        }
        Ok((found, has_more))
    }

    /// Ends a batch; its answers so far are kept.
    ///
    /// # Errors
    /// There is no such batch, or it has ended.
    pub(crate) async fn cancel(&self, id: &str) -> Result<Batch, Problem> {
        let number = id_of(BATCH_PREFIX, id).ok_or_else(|| no_batch(id))?;
        let open = {
            let mut all = self.open.lock();
            // One that has ended is in here until its end is recorded.
            let running = all.get_mut(&number).filter(|open| !open.batch.status.has_ended());
            running.map(|open| {
                open.batch.status = BatchStatus::Cancelling;
                open.batch.cancelling_at.get_or_insert_with(|| Utc::now().timestamp());
                open.clone()
            })
        };
        let Some(Open { batch, cancel }) = open else {
            let batch = self.find(id).await?;
            let detail = format!("the batch `{id}` has ended already");
            return match batch.status {
                BatchStatus::Cancelled => Ok(batch),
                _ => Err(Problem::new(ProblemKind::Refused, "batch_ended", detail)),
            };
        };
        // Stored first, so that a restart ends it too.
        self.store(number, &batch).await?;
        cancel.cancel();
        Ok(batch)
    }

    /// Deletes old files, and forgets old batches that have ended.
    async fn drop_old(&self) -> Result<(), Problem> {
        let before = Utc::now() - KEPT_FOR;
        let old = records::old_files(&self.database, self.node, before).await;
        for id in old.map_err(|error| database_problem(&error))? {
            self.files.remove(id).await?;
        }
        let forgotten = records::forget(&self.database, self.node, before).await;
        forgotten.map_err(|error| database_problem(&error))
    }

    /// Deletes a file that no open batch uses.
    ///
    /// # Errors
    /// There is no such file, or a batch uses it.
    pub(crate) async fn remove_file(&self, id: &str) -> Result<(), Problem> {
        let (number, _) = self.files.find(id).await?;
        let user = self.open.lock().values().find(|open| open.batch.input_file_id == id).cloned();
        if let Some(Open { batch, .. }) = user {
            let detail = format!("the batch `{}` uses the file `{id}`", batch.id);
            return Err(Problem::new(ProblemKind::Refused, "file_in_use", detail)
                .with_way_out(format!("end it first: POST /v1/batches/{}/cancel", batch.id)));
        }
        self.files.remove(number).await
    }
}

/// Hours of a time window such as `24h`.
fn hours(window: &str) -> Result<i64, Problem> {
    let hours = window.strip_suffix('h').and_then(|hours| hours.parse().ok());
    hours.filter(|hours| (1..=MOST_HOURS).contains(hours)).ok_or_else(|| {
        let detail = format!("`completion_window` must be `1h` to `{MOST_HOURS}h`");
        Problem::new(ProblemKind::Invalid, "field_out_of_range", detail)
            .at_field("completion_window")
    })
}

fn no_batch(id: &str) -> Problem {
    let id: String = id.chars().take(60).collect();
    Problem::new(ProblemKind::Missing, "batch_not_found", format!("there is no batch `{id}`"))
        .with_way_out("list all batches: GET /v1/batches")
}

/// The id of a file with answers; made from the batch's, so that a restart finds the file.
fn output_id(batch: Uuid, failed: bool) -> Uuid {
    Uuid::from_u128(batch.as_u128() ^ if failed { 2 } else { 1 })
}

fn file_id(id: Uuid) -> String {
    format!("{FILE_PREFIX}{}", id.simple())
}

/// Why batches cannot be opened.
#[derive(Debug, thiserror::Error)]
pub enum OpenError {
    /// Their folder cannot be used.
    #[error("the folder of batches cannot be used: {0}")]
    Folder(#[from] std::io::Error),
    /// Their records cannot be read.
    #[error("the records of batches cannot be read: {0}")]
    Records(#[from] sqlx::Error),
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn time_windows_are_hours() {
        assert_eq!((hours("24h"), hours("168h")), (Ok(24), Ok(168)));
        for wrong in ["0h", "169h", "24", "h", "-1h", "1d"] {
            assert_eq!(hours(wrong).unwrap_err().field.as_deref(), Some("completion_window"));
        }
    }

    #[test]
    fn files_of_answers_differ_and_can_be_found_again() {
        let batch = Uuid::now_v7();
        let ids = [output_id(batch, false), output_id(batch, true)];
        assert!(ids[0] != ids[1] && !ids.contains(&batch));
        assert_eq!(ids[0], output_id(batch, false));
    }
}
