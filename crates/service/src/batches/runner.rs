//! Runs batches, on a thread of its own.

use std::collections::BTreeSet;
use std::io;
use std::sync::Arc;
use std::time::Duration;

use actix_web::web::Data;
use chrono::Utc;
use deft_protocol::batches::{
    Batch, BatchAnswer, BatchErrors, BatchLine, BatchResponse, BatchStatus,
};
use deft_protocol::{Problem, ProblemKind};
use futures_util::StreamExt;
use futures_util::stream::FuturesUnordered;
use tokio::sync::{Semaphore, mpsc, oneshot};
use tokio::task::LocalSet;
use tokio_util::sync::CancellationToken;
use uuid::Uuid;

use super::lines::{self, Answers, Lines};
use super::{Batches, Open, file_id, output_id};
use crate::routes::App;
use crate::routes::batched::{self, Outcome};

/// Calls of a batch at once.
const AT_ONCE: usize = 16;
/// Batches at once.
const BATCHES: usize = 2;
/// Pauses before a call is repeated that may succeed later.
const PAUSES: std::ops::Range<Duration> = Duration::from_secs(1)..Duration::from_secs(30);
/// Time between two searches for old files.
const SWEEP_EVERY: Duration = Duration::from_secs(3600);
/// Time between two records of the progress.
const RECORD_EVERY: Duration = Duration::from_secs(2);

/// Ids of batches to run, for the [`Runner`].
pub(crate) struct Orders(pub(super) mpsc::UnboundedReceiver<Uuid>);

/// The thread that runs batches.
pub(crate) struct Runner {
    stop: CancellationToken,
    ended: oneshot::Receiver<()>,
}

impl Runner {
    /// Starts the thread.
    ///
    /// # Errors
    /// The system refuses it.
    pub(crate) fn start(app: Data<App>, orders: Orders) -> io::Result<Self> {
        let stop = CancellationToken::new();
        let (end, ended) = oneshot::channel();
        let until = stop.clone();
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build()?;
        std::thread::Builder::new().name("batches".to_owned()).spawn(move || {
            LocalSet::new().block_on(&runtime, run_all(app, orders, until));
            // Nobody waits for it if the service ends in another way.
            let _ = end.send(());
        })?;
        Ok(Self { stop, ended })
    }

    /// Stops all batches where they are, and waits for that. The next start continues them.
    pub(crate) async fn stop(self) {
        self.stop.cancel();
        let _ = self.ended.await;
    }
}

async fn run_all(app: Data<App>, orders: Orders, stop: CancellationToken) {
    let Orders(mut orders) = orders;
    let turns = Arc::new(Semaphore::new(BATCHES));
    let mut sweep = tokio::time::interval(SWEEP_EVERY);
    loop {
        let id = tokio::select! {
            id = orders.recv() => id,
            () = stop.cancelled() => None,
            _ = sweep.tick() => {
                if let Err(problem) = app.batches.drop_old().await {
                    tracing::warn!("old files of batches stay for now: {}", problem.detail);
                }
                continue;
            }
        };
        let Some(id) = id else { break };
        let (app, turns, stop) = (app.clone(), Arc::clone(&turns), stop.clone());
        tokio::task::spawn_local(async move {
            let Ok(_turn) = turns.acquire_owned().await else { return };
            tokio::select! {
                () = run(&app, id) => {}
                () = stop.cancelled() => {}
            }
        });
    }
}

/// Runs a batch to its end.
async fn run(app: &Data<App>, id: Uuid) {
    let batches = &app.batches;
    let Some(Open { batch, cancel }) = batches.open.lock().get(&id).cloned() else { return };
    let mut running = Running { app, batches, id, cancel };
    if let Err(error) = running.answer(&batch).await {
        tracing::error!("the batch `{}` failed: {error}", batch.id);
        let message = format!("its answers cannot be written: {error}");
        running.fails("answers_not_written", message).await;
    }
}

/// How the calls of a batch ended.
#[derive(Clone, Copy, PartialEq, Eq)]
enum End {
    Done,
    Cancelled,
    Expired,
}

struct Running<'b> {
    app: &'b Data<App>,
    batches: &'b Batches,
    id: Uuid,
    cancel: CancellationToken,
}

/// The files of a batch's answers.
struct Outputs {
    answers: Answers,
    failures: Answers,
}

impl Outputs {
    fn add(&mut self, answer: &BatchAnswer) -> io::Result<()> {
        let is_good = answer.response.as_ref().is_some_and(|response| response.status_code == 200);
        if is_good { self.answers.add(answer) } else { self.failures.add(answer) }
    }
}

impl Running<'_> {
    async fn answer(&mut self, batch: &Batch) -> io::Result<()> {
        let Some(input) = deft_protocol::batches::id_of("file-", &batch.input_file_id) else {
            return Ok(());
        };
        let (path, endpoint) = (self.batches.files.path(input), batch.endpoint.clone());
        let checked = {
            let path = path.clone();
            tokio::task::spawn_blocking(move || lines::check(&path, &endpoint)).await
        };
        let total = match checked.map_err(io::Error::other)? {
            Ok(total) => total,
            Err(errors) => {
                let errors = BatchErrors { object: "list".to_owned(), data: errors };
                self.ends(|batch| {
                    (batch.status, batch.errors) = (BatchStatus::Failed, Some(errors));
                    batch.failed_at = Some(Utc::now().timestamp());
                })
                .await;
                return Ok(());
            }
        };
        let files = &self.batches.files;
        let mut done = BTreeSet::new();
        let mut outputs = Outputs {
            answers: Answers::open(&files.growing(output_id(self.id, false)), &mut done)?,
            failures: Answers::open(&files.growing(output_id(self.id, true)), &mut done)?,
        };
        self.change(|batch| {
            if batch.status == BatchStatus::Validating {
                batch.status = BatchStatus::InProgress;
            }
            batch.in_progress_at.get_or_insert_with(|| Utc::now().timestamp());
            batch.request_counts.total = total;
        });
        self.progress(&outputs);
        self.record().await;
        let end = self.calls(batch, Lines::open(&path)?, &done, &mut outputs).await?;
        self.finalize(&batch.id, end, outputs).await
    }

    /// Answers all calls that are not done.
    async fn calls(
        &self,
        batch: &Batch,
        mut lines: Lines,
        done: &BTreeSet<String>,
        outputs: &mut Outputs,
    ) -> io::Result<End> {
        let seconds = u64::try_from(batch.expires_at - Utc::now().timestamp()).unwrap_or(0);
        let over = tokio::time::sleep(Duration::from_secs(seconds));
        tokio::pin!(over);
        let mut record = tokio::time::interval(RECORD_EVERY);
        let mut running = FuturesUnordered::new();
        let mut has_more = true;
        loop {
            while has_more && running.len() < AT_ONCE {
                match lines.next()? {
                    // The lines were checked before.
                    Some((_, Ok(line))) if !done.contains(&line.custom_id) => {
                        running.push(self.call(&batch.endpoint, line));
                    }
                    Some(_) => {}
                    None => has_more = false,
                }
            }
            tokio::select! {
                answer = running.next() => match answer {
                    Some(answer) => {
                        outputs.add(&answer)?;
                        self.progress(outputs);
                    }
                    None => return Ok(End::Done),
                },
                () = self.cancel.cancelled() => return Ok(End::Cancelled),
                () = &mut over => return Ok(End::Expired),
                _ = record.tick() => self.record().await,
            }
        }
    }

    /// Answers a call, however long that takes.
    async fn call(&self, endpoint: &str, line: BatchLine) -> BatchAnswer {
        let bytes = serde_json::to_vec(&line.body).unwrap_or_default();
        let mut pause = PAUSES.start;
        loop {
            let name = format!("batch {}", &self.id.simple().to_string()[24..]);
            let Outcome { request, answer } =
                batched::answer(self.app, endpoint, name, &bytes).await;
            let (status_code, body) = match answer {
                Ok(body) => (200, body),
                Err(problem) if may_pass(&problem) => {
                    tokio::time::sleep(pause).await;
                    pause = (pause * 2).min(PAUSES.end);
                    continue;
                }
                Err(problem) => batched::refused(endpoint, &problem),
            };
            let response =
                Some(BatchResponse { status_code, request_id: request.to_string(), body });
            let id = format!("batch_req_{}", request.simple());
            return BatchAnswer { id, custom_id: line.custom_id, response, error: None };
        }
    }

    /// Puts the files in their place, and ends the batch.
    async fn finalize(&self, batch: &str, end: End, outputs: Outputs) -> io::Result<()> {
        self.change(|batch| {
            batch.finalizing_at = Some(Utc::now().timestamp());
            if batch.status == BatchStatus::InProgress {
                batch.status = BatchStatus::Finalizing;
            }
        });
        let files = &self.batches.files;
        let mut ids = [None, None];
        for (at, (failed, file)) in
            [(false, &outputs.answers), (true, &outputs.failures)].into_iter().enumerate()
        {
            let id = output_id(self.id, failed);
            if file.count == 0 {
                std::fs::remove_file(files.growing(id))?;
                continue;
            }
            let name = format!("{batch}-{}.jsonl", if failed { "failed" } else { "answers" });
            let bytes = file.bytes()?;
            std::fs::rename(files.growing(id), files.path(id))?;
            patiently(|| files.record(id, &name, bytes)).await;
            ids[at] = Some(file_id(id));
        }
        let [answers, failures] = ids;
        self.ends(|batch| {
            (batch.output_file_id, batch.error_file_id) = (answers, failures);
            let now = Some(Utc::now().timestamp());
            (
                batch.status,
                *match end {
                    End::Done => &mut batch.completed_at,
                    End::Cancelled => &mut batch.cancelled_at,
                    End::Expired => &mut batch.expired_at,
                },
            ) = (
                match end {
                    End::Done => BatchStatus::Completed,
                    End::Cancelled => BatchStatus::Cancelled,
                    End::Expired => BatchStatus::Expired,
                },
                now,
            );
        })
        .await;
        Ok(())
    }

    async fn fails(&self, code: &str, message: String) {
        let error = deft_protocol::batches::BatchError {
            code: code.to_owned(),
            message,
            param: None,
            line: None,
        };
        self.ends(|batch| {
            batch.errors = Some(BatchErrors { object: "list".to_owned(), data: vec![error] });
            (batch.status, batch.failed_at) = (BatchStatus::Failed, Some(Utc::now().timestamp()));
        })
        .await;
    }

    fn change(&self, change: impl FnOnce(&mut Batch)) {
        if let Some(open) = self.batches.open.lock().get_mut(&self.id) {
            change(&mut open.batch);
        }
    }

    fn progress(&self, outputs: &Outputs) {
        self.change(|batch| {
            batch.request_counts.completed = outputs.answers.count;
            batch.request_counts.failed = outputs.failures.count;
        });
    }

    /// Records the progress, if the database answers; the files have all that a restart needs.
    async fn record(&self) {
        let open = self.batches.open.lock().get(&self.id).map(|open| open.batch.clone());
        if let Some(batch) = open {
            let _ = self.batches.store(self.id, &batch).await;
        }
    }

    /// Records the end, however long the database takes; until then the batch is open.
    async fn ends(&self, change: impl FnOnce(&mut Batch)) {
        self.change(change);
        let open = self.batches.open.lock().get(&self.id).map(|open| open.batch.clone());
        if let Some(batch) = open {
            patiently(|| self.batches.store(self.id, &batch)).await;
        }
        self.batches.open.lock().remove(&self.id);
    }
}

/// Whether a call may succeed later.
fn may_pass(problem: &Problem) -> bool {
    matches!(problem.kind, ProblemKind::Overloaded | ProblemKind::Busy | ProblemKind::Down)
}

/// Repeats a question to the database until it is answered.
async fn patiently<E, F: Future<Output = Result<(), E>>>(ask: impl Fn() -> F) {
    let mut pause = PAUSES.start;
    while ask().await.is_err() {
        tokio::time::sleep(pause).await;
        pause = (pause * 2).min(PAUSES.end);
    }
}
