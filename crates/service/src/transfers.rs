//! What takes long with files: one after the other, with progress, until it is done or cancelled. It
//! goes on whether or not somebody looks.

use std::collections::VecDeque;
use std::ops::ControlFlow;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use chrono::Utc;
use deft_protocol::manage::{Transfer, TransferKind, TransferState};
use deft_protocol::{Problem, ProblemKind};
use tokio::sync::{Semaphore, watch};
use uuid::Uuid;

/// Progress is told no more often.
const TELL_EVERY: Duration = Duration::from_millis(150);
/// So many that ended are remembered.
const REMEMBERED: usize = 20;

/// All transfers of this node; cheap to clone.
#[derive(Clone)]
pub(crate) struct Transfers {
    entries: Arc<Mutex<VecDeque<Arc<Entry>>>>,
    /// The disk serves one at a time best.
    turn: Arc<Semaphore>,
    changes: watch::Sender<u64>,
}

struct Entry {
    shown: Mutex<Transfer>,
    /// Since it runs.
    since: Mutex<Option<Instant>>,
    done: AtomicU64,
    cancelled: AtomicBool,
}

/// What a transfer's work tells.
pub(crate) struct Handle {
    entry: Arc<Entry>,
    changes: watch::Sender<u64>,
    /// When progress was told last.
    told: Mutex<Instant>,
}

fn lock<T>(mutex: &Mutex<T>) -> std::sync::MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

impl Handle {
    /// The file it is at now.
    pub(crate) fn begin_file(&self, name: &str) {
        lock(&self.entry.shown).file = Some(name.to_owned());
        self.changes.send_modify(|count| *count += 1);
    }

    /// So many bytes more are done; breaks where it was cancelled.
    pub(crate) fn advance(&self, bytes: u64) -> ControlFlow<()> {
        self.entry.done.fetch_add(bytes, Ordering::Relaxed);
        let mut told = lock(&self.told);
        if told.elapsed() >= TELL_EVERY {
            *told = Instant::now();
            self.changes.send_modify(|count| *count += 1);
        }
        if self.entry.cancelled.load(Ordering::Relaxed) {
            ControlFlow::Break(())
        } else {
            ControlFlow::Continue(())
        }
    }
}

impl Entry {
    fn report(&self) -> Transfer {
        let mut shown = lock(&self.shown).clone();
        shown.done_bytes = self.done.load(Ordering::Relaxed).min(shown.total_bytes);
        if shown.state == TransferState::Running
            && let Some(since) = *lock(&self.since)
        {
            let seconds = since.elapsed().as_secs_f64();
            #[expect(clippy::cast_precision_loss, reason = "a rate")]
            let (done, left) =
                (shown.done_bytes as f64, (shown.total_bytes - shown.done_bytes) as f64);
            shown.rate = (done > 0.0 && seconds > 0.0).then(|| done / seconds);
            shown.seconds_left = shown.rate.map(|rate| left / rate);
        }
        shown
    }

    fn end(&self, result: Result<String, Problem>) {
        let mut shown = lock(&self.shown);
        shown.ended_at = Some(Utc::now());
        match result {
            Ok(outcome) => {
                shown.state = TransferState::Done;
                shown.outcome = Some(outcome);
            }
            Err(_) if self.cancelled.load(Ordering::Relaxed) => {
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
    pub(crate) fn new() -> Self {
        let (changes, _) = watch::channel(0);
        Self { entries: Arc::default(), turn: Arc::new(Semaphore::new(1)), changes }
    }

    /// Notices whenever something changes.
    pub(crate) fn changes(&self) -> watch::Receiver<u64> {
        self.changes.subscribe()
    }

    /// Begins a transfer of so many bytes: `work` is done when its turn comes, off the threads that
    /// serve; `after` says what came of it.
    pub(crate) fn begin<T, W, A, F>(
        &self,
        kind: TransferKind,
        about: &str,
        total_bytes: u64,
        work: W,
        after: A,
    ) -> Transfer
    where
        T: Send + 'static,
        W: FnOnce(&Handle) -> Result<T, Problem> + Send + 'static,
        A: FnOnce(T) -> F + Send + 'static,
        F: Future<Output = Result<String, Problem>> + Send,
    {
        let shown = Transfer {
            id: Uuid::now_v7(),
            kind,
            about: about.to_owned(),
            state: TransferState::Waiting,
            file: None,
            done_bytes: 0,
            total_bytes,
            rate: None,
            seconds_left: None,
            began_at: Utc::now(),
            ended_at: None,
            outcome: None,
            problem: None,
        };
        let entry = Arc::new(Entry {
            shown: Mutex::new(shown),
            since: Mutex::new(None),
            done: AtomicU64::new(0),
            cancelled: AtomicBool::new(false),
        });
        self.remember(&entry);
        let (turn, changes) = (Arc::clone(&self.turn), self.changes.clone());
        let running = Arc::clone(&entry);
        tokio::spawn(async move {
            let permit = turn.acquire_owned().await;
            let result = if running.cancelled.load(Ordering::Relaxed) {
                Err(cancelled())
            } else {
                lock(&running.shown).state = TransferState::Running;
                *lock(&running.since) = Some(Instant::now());
                changes.send_modify(|count| *count += 1);
                let entry = Arc::clone(&running);
                let handle =
                    Handle { entry, changes: changes.clone(), told: Mutex::new(Instant::now()) };
                let worked = tokio::task::spawn_blocking(move || work(&handle)).await;
                match worked.unwrap_or_else(|error| Err(fault(&error))) {
                    Ok(made) => after(made).await,
                    Err(problem) => Err(problem),
                }
            };
            drop(permit);
            running.end(result);
            changes.send_modify(|count| *count += 1);
        });
        entry.report()
    }

    fn remember(&self, entry: &Arc<Entry>) {
        let mut entries = lock(&self.entries);
        entries.push_front(Arc::clone(entry));
        let mut ended = 0;
        entries.retain(|entry| {
            let has_ended = lock(&entry.shown).state.has_ended();
            ended += usize::from(has_ended);
            !has_ended || ended <= REMEMBERED
        });
        self.changes.send_modify(|count| *count += 1);
    }

    /// All that run and the latest that ended, the newest first.
    pub(crate) fn all(&self) -> Vec<Transfer> {
        lock(&self.entries).iter().map(|entry| entry.report()).collect()
    }

    /// One of them.
    pub(crate) fn get(&self, id: Uuid) -> Result<Transfer, Problem> {
        self.find(id).map(|entry| entry.report())
    }

    /// Tells one to stop.
    pub(crate) fn cancel(&self, id: Uuid) -> Result<Transfer, Problem> {
        let entry = self.find(id)?;
        if !lock(&entry.shown).state.has_ended() {
            entry.cancelled.store(true, Ordering::Relaxed);
        }
        self.changes.send_modify(|count| *count += 1);
        Ok(entry.report())
    }

    fn find(&self, id: Uuid) -> Result<Arc<Entry>, Problem> {
        let entries = lock(&self.entries);
        let found = entries.iter().find(|entry| lock(&entry.shown).id == id).cloned();
        found.ok_or_else(|| {
            let detail = format!("there is no transfer {id}");
            Problem::new(ProblemKind::Missing, "no_transfer", detail)
                .with_way_out("all transfers: deft transfers")
        })
    }
}

fn cancelled() -> Problem {
    Problem::new(ProblemKind::Refused, "cancelled", "it was cancelled")
}

fn fault(error: &tokio::task::JoinError) -> Problem {
    Problem::new(ProblemKind::Fault, "fault", error.to_string())
}

#[cfg(test)]
mod tests {
    use super::*;

    async fn ended(transfers: &Transfers, id: Uuid) -> Transfer {
        let mut changes = transfers.changes();
        loop {
            let found = transfers.get(id).unwrap();
            if found.state.has_ended() {
                return found;
            }
            changes.changed().await.unwrap();
        }
    }

    #[tokio::test]
    async fn progress_is_told_while_it_runs_and_the_outcome_afterwards() {
        let transfers = Transfers::new();
        let (seen, wait) = std::sync::mpsc::channel::<()>();
        let begun = transfers.begin(
            TransferKind::Import,
            "larkfen-desk/q8_0",
            100,
            move |handle| {
                handle.begin_file("larkfen-desk.gguf");
                assert!(handle.advance(40).is_continue());
                wait.recv().unwrap();
                Ok(7)
            },
            |made| async move { Ok(format!("{made} is there")) },
        );
        let running = loop {
            let found = transfers.get(begun.id).unwrap();
            if found.done_bytes > 0 {
                break found;
            }
            tokio::time::sleep(Duration::from_millis(5)).await;
        };
        assert_eq!((running.state, running.done_bytes), (TransferState::Running, 40));
        assert!(running.rate.unwrap() > 0.0 && running.seconds_left.unwrap() > 0.0);
        seen.send(()).unwrap();
        let done = ended(&transfers, begun.id).await;
        assert_eq!(done.outcome.as_deref(), Some("7 is there"));
        assert_eq!((done.state, done.rate), (TransferState::Done, None));
    }

    #[tokio::test]
    async fn one_after_the_other_and_a_waiting_one_can_be_cancelled() {
        let transfers = Transfers::new();
        let (go, wait) = std::sync::mpsc::channel::<()>();
        let nothing = |()| async { Ok(String::new()) };
        let first = transfers.begin(
            TransferKind::Verify,
            "all",
            1,
            move |_| wait.recv().map_err(|_| cancelled()),
            nothing,
        );
        let second = transfers.begin(TransferKind::Verify, "all", 1, |_| panic!("it ran"), nothing);
        transfers.cancel(second.id).unwrap();
        go.send(()).unwrap();
        assert_eq!(ended(&transfers, first.id).await.state, TransferState::Done);
        assert_eq!(ended(&transfers, second.id).await.state, TransferState::Cancelled);
        assert!(transfers.get(Uuid::nil()).is_err());
    }
}
