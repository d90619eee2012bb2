//! Transfers: pulls, imports, exports and verifications, with their progress. A transfer continues without its caller, and
//! a pull continues after a restart of the service.

use std::collections::VecDeque;
use std::ops::ControlFlow;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};

use chrono::{DateTime, Utc};
use deft_protocol::manage::{FileProgress, Transfer, TransferKind, TransferState};
use deft_protocol::{Problem, ProblemKind};
use parking_lot::Mutex;
use serde::de::DeserializeOwned;
use serde_json::Value;
use sqlx::PgPool;
use tokio::sync::{Semaphore, watch};
use tokio_util::sync::CancellationToken;
use uuid::Uuid;

use crate::records::transfers as records;

/// Least time between two reports of progress.
const REPORT_EVERY: Duration = Duration::from_millis(150);
/// Number of ended transfers that are remembered.
const REMEMBERED: usize = 20;
/// Most pulls that run in parallel.
const FETCHES: usize = 3;

/// All transfers of this node; cheap to clone.
#[derive(Clone)]
pub(crate) struct Transfers {
    entries: Arc<Mutex<VecDeque<Arc<Entry>>>>,
    /// One at a time, which is best for the disk.
    disk: Arc<Semaphore>,
    /// Several in parallel, over the network.
    network: Arc<Semaphore>,
    changes: watch::Sender<u64>,
    records: Option<(PgPool, Uuid)>,
    /// Runtime with its own threads, so that requests are not delayed.
    runtime: tokio::runtime::Handle,
}

struct Entry {
    shown: Mutex<Transfer>,
    /// When it began to run.
    since: Mutex<Option<Instant>>,
    done: AtomicU64,
    /// Bytes that were stored before it began.
    before: AtomicU64,
    /// Time of the last report.
    last_report: Mutex<Option<Instant>>,
    stop: CancellationToken,
    request: Value,
}

/// What a new transfer begins with.
pub(crate) struct Beginning {
    pub(crate) id: Uuid,
    pub(crate) kind: TransferKind,
    pub(crate) about: String,
    pub(crate) total_bytes: u64,
    pub(crate) began_at: DateTime<Utc>,
    /// The request, with which it is begun again after a restart.
    pub(crate) request: Value,
}

impl Beginning {
    pub(crate) fn now(kind: TransferKind, about: &str, total_bytes: u64) -> Self {
        Self {
            id: Uuid::now_v7(),
            kind,
            about: about.to_owned(),
            total_bytes,
            began_at: Utc::now(),
            request: Value::Null,
        }
    }
}

/// By which the work of a transfer reports its progress; cheap to clone.
#[derive(Clone)]
pub(crate) struct Handle {
    entry: Arc<Entry>,
    changes: watch::Sender<u64>,
}

impl Handle {
    fn change(&self, change: impl FnOnce(&mut Transfer)) {
        change(&mut self.entry.shown.lock());
        self.changes.send_modify(|count| *count += 1);
    }

    /// Names the file that is being processed.
    pub(crate) fn begin_file(&self, name: &str) {
        self.change(|shown| shown.file = Some(name.to_owned()));
    }

    /// Sets the files that are processed in parallel, and their total length.
    pub(crate) fn works_on(&self, files: Vec<FileProgress>) {
        self.change(|shown| {
            shown.total_bytes = files.iter().map(|file| file.total_bytes).sum();
            shown.files = files;
        });
    }

    /// Names the current stage, if it is not the main work.
    pub(crate) fn stage(&self, stage: Option<&str>) {
        self.change(|shown| shown.stage = stage.map(str::to_owned));
    }

    /// Is cancelled with the transfer.
    pub(crate) fn stop(&self) -> CancellationToken {
        self.entry.stop.clone()
    }

    /// Adds to the bytes that are done; breaks if the transfer is cancelled.
    pub(crate) fn advance(&self, bytes: u64) -> ControlFlow<()> {
        self.entry.done.fetch_add(bytes, Ordering::Relaxed);
        self.notify();
        if self.entry.stop.is_cancelled() {
            ControlFlow::Break(())
        } else {
            ControlFlow::Continue(())
        }
    }

    /// Adds to the bytes that are done of one file.
    pub(crate) fn advance_file(&self, file: usize, bytes: u64) {
        self.count_file(file, |done| done.saturating_add(bytes));
        let _ = self.advance(bytes);
    }

    /// Adds bytes of a file that were stored before; they do not count for the rate.
    pub(crate) fn found(&self, file: usize, bytes: u64) {
        self.entry.before.fetch_add(bytes, Ordering::Relaxed);
        self.advance_file(file, bytes);
    }

    /// Subtracts bytes of a file that have to be done again.
    pub(crate) fn retreat(&self, file: usize, bytes: u64) {
        self.count_file(file, |done| done.saturating_sub(bytes));
        let less = |done: u64| Some(done.saturating_sub(bytes));
        let _ = self.entry.done.fetch_update(Ordering::Relaxed, Ordering::Relaxed, less);
        self.notify();
    }

    /// Sets the length of a file.
    pub(crate) fn measure(&self, file: usize, bytes: u64) {
        self.change(|shown| {
            if let Some(found) = shown.files.get_mut(file) {
                found.total_bytes = bytes;
            }
            shown.total_bytes = shown.files.iter().map(|file| file.total_bytes).sum();
        });
    }

    /// Number of bytes that are done.
    pub(crate) fn done(&self) -> u64 {
        self.entry.done.load(Ordering::Relaxed)
    }

    /// Resets the progress of all files, before they are processed again.
    pub(crate) fn restart_files(&self) {
        self.entry.done.store(0, Ordering::Relaxed);
        self.entry.before.store(0, Ordering::Relaxed);
        self.change(|shown| shown.files.iter_mut().for_each(|file| file.done_bytes = 0));
    }

    fn count_file(&self, file: usize, change: impl FnOnce(u64) -> u64) {
        if let Some(found) = self.entry.shown.lock().files.get_mut(file) {
            found.done_bytes = change(found.done_bytes);
        }
    }

    fn notify(&self) {
        let mut last_report = self.entry.last_report.lock();
        if last_report.is_none_or(|last_report| last_report.elapsed() >= REPORT_EVERY) {
            *last_report = Some(Instant::now());
            self.changes.send_modify(|count| *count += 1);
        }
    }
}

impl Entry {
    fn report(&self) -> Transfer {
        let mut shown = self.shown.lock().clone();
        shown.done_bytes = self.done.load(Ordering::Relaxed).min(shown.total_bytes);
        if shown.state == TransferState::Running
            && let Some(since) = *self.since.lock()
        {
            let seconds = since.elapsed().as_secs_f64();
            let new = shown.done_bytes.saturating_sub(self.before.load(Ordering::Relaxed));
            #[expect(clippy::cast_precision_loss, reason = "a rate")]
            let (done, left) = (new as f64, (shown.total_bytes - shown.done_bytes) as f64);
            shown.rate = (done > 0.0 && seconds > 0.0).then(|| done / seconds);
            shown.seconds_left = shown.rate.map(|rate| left / rate);
        }
        shown
    }

    fn end(&self, result: Result<String, Problem>) {
        let mut shown = self.shown.lock();
        shown.ended_at = Some(Utc::now());
        shown.stage = None;
        match result {
            Ok(outcome) => {
                shown.state = TransferState::Done;
                shown.outcome = Some(outcome);
            }
            Err(_) if self.stop.is_cancelled() => {
                shown.state = TransferState::Cancelled;
            }
            Err(problem) => {
                tracing::warn!("transfer of `{}` failed: {}", shown.about, problem.detail);
                shown.state = TransferState::Failed;
                shown.problem = Some(problem);
            }
        }
    }
}

impl Transfers {
    /// Transfers of a node. Without `records` they are in memory only.
    pub(crate) fn new(records: Option<(PgPool, Uuid)>, runtime: tokio::runtime::Handle) -> Self {
        let (changes, _) = watch::channel(0);
        Self {
            runtime,
            entries: Arc::default(),
            disk: Arc::new(Semaphore::new(1)),
            network: Arc::new(Semaphore::new(FETCHES)),
            changes,
            records,
        }
    }

    /// Restores the recorded transfers. Returns those that had not ended, with their requests; marks as failed those that
    /// cannot continue.
    pub(crate) async fn restore(&self) -> sqlx::Result<Vec<(Transfer, Value)>> {
        let Some((database, node)) = &self.records else {
            return Ok(Vec::new());
        };
        let count = i64::try_from(REMEMBERED).unwrap_or(i64::MAX);
        let mut going_on = Vec::new();
        for (mut transfer, request) in records::latest(database, *node, count).await? {
            if !transfer.state.has_ended() && transfer.kind == TransferKind::Pull {
                going_on.push((transfer, request));
                continue;
            }
            if !transfer.state.has_ended() {
                transfer.state = TransferState::Failed;
                transfer.ended_at = Some(Utc::now());
                let detail = "the service ended before it was finished";
                transfer.problem = Some(
                    Problem::new(ProblemKind::Fault, "interrupted", detail)
                        .with_way_out("start it again"),
                );
                records::store(database, *node, &transfer, &request).await?;
            }
            let entry = Arc::new(Entry::new(transfer, request));
            self.entries.lock().push_back(entry);
        }
        going_on.reverse();
        Ok(going_on)
    }

    /// Notified of each change.
    pub(crate) fn changes(&self) -> watch::Receiver<u64> {
        self.changes.subscribe()
    }

    /// Begins a transfer. Its `job` runs when it is next in its queue, and returns the outcome as text.
    pub(crate) fn begin<F>(
        &self,
        beginning: Beginning,
        job: impl FnOnce(Handle) -> F + Send + 'static,
    ) -> Transfer
    where
        F: Future<Output = Result<String, Problem>> + Send + 'static,
    {
        let Beginning { id, kind, about, total_bytes, began_at, request } = beginning;
        let shown = Transfer {
            id,
            kind,
            about,
            state: TransferState::Waiting,
            stage: None,
            file: None,
            files: Vec::new(),
            done_bytes: 0,
            total_bytes,
            rate: None,
            seconds_left: None,
            began_at,
            ended_at: None,
            outcome: None,
            problem: None,
        };
        let entry = Arc::new(Entry::new(shown, request));
        self.remember(&entry);
        let turn = Arc::clone(if kind == TransferKind::Pull { &self.network } else { &self.disk });
        let (all, running) = (self.clone(), Arc::clone(&entry));
        self.runtime.spawn(async move {
            all.record(&running).await;
            let stop = running.stop.clone();
            let permit = tokio::select! {
                biased;
                () = stop.cancelled() => None,
                permit = turn.acquire_owned() => permit.ok(),
            };
            let result = if permit.is_none() {
                Err(cancelled())
            } else {
                running.shown.lock().state = TransferState::Running;
                *running.since.lock() = Some(Instant::now());
                all.changes.send_modify(|count| *count += 1);
                let handle = Handle { entry: Arc::clone(&running), changes: all.changes.clone() };
                // In a separate task, so that a panic ends only this transfer and is reported.
                let done = tokio::spawn(async move { job(handle).await }).await;
                done.unwrap_or_else(|error| Err(fault(&error)))
            };
            drop(permit);
            running.end(result);
            all.record(&running).await;
            all.changes.send_modify(|count| *count += 1);
        });
        entry.report()
    }

    /// Begins a transfer whose `work` uses the disk; `after` returns the outcome as text.
    pub(crate) fn begin_on_disk<T, W, A, F>(
        &self,
        beginning: Beginning,
        work: W,
        after: A,
    ) -> Transfer
    where
        T: Send + 'static,
        W: FnOnce(&Handle) -> Result<T, Problem> + Send + 'static,
        A: FnOnce(T) -> F + Send + 'static,
        F: Future<Output = Result<String, Problem>> + Send + 'static,
    {
        self.begin(beginning, move |handle| async move {
            let worked = tokio::task::spawn_blocking(move || work(&handle)).await;
            after(worked.unwrap_or_else(|error| Err(fault(&error)))?).await
        })
    }

    /// Records the state of a transfer. While the database is unavailable, the state is in memory only.
    async fn record(&self, entry: &Entry) {
        let Some((database, node)) = &self.records else {
            return;
        };
        if let Err(error) = records::store(database, *node, &entry.report(), &entry.request).await {
            tracing::warn!("a transfer cannot be recorded: {error}");
        }
    }

    fn remember(&self, entry: &Arc<Entry>) {
        let mut entries = self.entries.lock();
        entries.push_front(Arc::clone(entry));
        let mut ended = 0;
        entries.retain(|entry| {
            let has_ended = entry.shown.lock().state.has_ended();
            ended += usize::from(has_ended);
            !has_ended || ended <= REMEMBERED
        });
        self.changes.send_modify(|count| *count += 1);
    }

    /// Running transfers and the latest ended ones, newest first.
    pub(crate) fn all(&self) -> Vec<Transfer> {
        self.entries.lock().iter().map(|entry| entry.report()).collect()
    }

    /// A running transfer with a matching request.
    pub(crate) fn going_on<T: DeserializeOwned>(
        &self,
        is_same: impl Fn(&T) -> bool,
    ) -> Option<Transfer> {
        let entries = self.entries.lock();
        let same = |entry: &&Arc<Entry>| {
            let request: Option<T> = serde_json::from_value(entry.request.clone()).ok();
            request.is_some_and(|request| is_same(&request))
                && !entry.shown.lock().state.has_ended()
                && !entry.stop.is_cancelled()
        };
        entries.iter().find(same).map(|entry| entry.report())
    }

    /// The transfer with an id.
    pub(crate) fn get(&self, id: Uuid) -> Result<Transfer, Problem> {
        self.find(id).map(|entry| entry.report())
    }

    /// Cancels a transfer, and records that, so that it does not continue after a restart.
    pub(crate) async fn cancel(&self, id: Uuid) -> Result<Transfer, Problem> {
        let entry = self.find(id)?;
        let has_ended = entry.shown.lock().state.has_ended();
        if !has_ended {
            entry.stop.cancel();
        }
        self.changes.send_modify(|count| *count += 1);
        if let (false, Some((database, node))) = (has_ended, &self.records) {
            let (state, ended_at) = (TransferState::Cancelled, Some(Utc::now()));
            let ended = Transfer { state, ended_at, ..entry.report() };
            let recorded = records::store(database, *node, &ended, &entry.request).await;
            recorded.map_err(|error| {
                let mut problem = crate::depot::catalogue::database_problem(&error);
                problem.detail = format!(
                    "it is cancelled now, but would continue after a restart, because {}",
                    problem.detail
                );
                problem
            })?;
        }
        Ok(entry.report())
    }

    fn find(&self, id: Uuid) -> Result<Arc<Entry>, Problem> {
        let entries = self.entries.lock();
        let found = entries.iter().find(|entry| entry.shown.lock().id == id).cloned();
        found.ok_or_else(|| {
            let detail = format!("no transfer {id}");
            Problem::new(ProblemKind::Missing, "no_transfer", detail)
                .with_way_out("list all transfers: deft transfers")
        })
    }
}

impl Entry {
    fn new(shown: Transfer, request: Value) -> Self {
        Self {
            done: AtomicU64::new(shown.done_bytes),
            shown: Mutex::new(shown),
            since: Mutex::new(None),
            before: AtomicU64::new(0),
            last_report: Mutex::new(None),
            stop: CancellationToken::new(),
            request,
        }
    }
}

pub(crate) fn cancelled() -> Problem {
    Problem::new(ProblemKind::Refused, "cancelled", "it was cancelled")
}

fn fault(error: &tokio::task::JoinError) -> Problem {
    Problem::new(ProblemKind::Fault, "fault", error.to_string())
}

#[cfg(test)]
mod tests;
