//! Traces of calls. They are off unless an operator turns them on, in memory only, and delete themselves.

use std::collections::{BTreeMap, VecDeque};
use std::sync::Arc;
use std::time::Duration;

use chrono::{DateTime, TimeDelta, Utc};
use deft_protocol::engine::TraceStep;
use deft_protocol::manage::{Trace, TraceSummary, TracedAnswer, Tracing, TracingRequest};
use deft_protocol::{Problem, ProblemKind};
use parking_lot::Mutex;
use tokio::sync::watch;
use uuid::Uuid;

/// Most bytes of all traces; the oldest are deleted first.
const MOST_BYTES: usize = 64 << 20;
/// Most bytes of the output of an answer.
const MAX_OUTPUT: usize = 1 << 20;
/// Most models that are traced at once.
const MOST_MODELS: usize = 32;
/// Longest tracing and longest time that a trace is kept, in seconds.
const LONGEST: u64 = 24 * 3600;
const KEPT_LONGEST: u64 = 7 * 24 * 3600;
/// How long a trace is kept, if the operator does not say.
const KEPT: u64 = 3600;
/// Time between two searches for traces whose time is over.
const SWEEP: Duration = Duration::from_secs(1);

/// Which calls are traced, and their traces.
pub(crate) struct Traces {
    on: Mutex<Vec<Tracing>>,
    kept: Mutex<VecDeque<Arc<Trace>>>,
    changes: watch::Sender<()>,
}

impl Traces {
    /// No calls are traced. What is over ends by itself.
    pub(crate) fn start() -> Arc<Self> {
        let all = Arc::new(Self {
            on: Mutex::default(),
            kept: Mutex::default(),
            changes: watch::Sender::default(),
        });
        let held = Arc::downgrade(&all);
        tokio::spawn(async move {
            while let Some(all) = held.upgrade() {
                all.end(Utc::now());
                drop(all);
                tokio::time::sleep(SWEEP).await;
            }
        });
        all
    }

    /// Changes of what is traced.
    pub(crate) fn changes(&self) -> watch::Receiver<()> {
        self.changes.subscribe()
    }

    /// Which calls are traced now.
    pub(crate) fn on(&self) -> Vec<Tracing> {
        self.on.lock().clone()
    }

    /// Begins to trace the calls of a model.
    ///
    /// # Errors
    /// A time is out of range, or too many models are traced.
    pub(crate) fn begin(&self, model: &str, request: &TracingRequest) -> Result<Tracing, Problem> {
        let keep_seconds = request.keep_seconds.unwrap_or(KEPT);
        within("seconds", request.seconds, LONGEST)?;
        within("keep_seconds", keep_seconds, KEPT_LONGEST)?;
        let since = Utc::now();
        let until = since + seconds(request.seconds);
        let tracing = Tracing { model: model.to_owned(), since, until, keep_seconds };
        let mut on = self.on.lock();
        on.retain(|other| other.model != model);
        if on.len() >= MOST_MODELS {
            let detail = format!("{MOST_MODELS} models are traced already");
            return Err(Problem::new(ProblemKind::Refused, "many_traced", detail)
                .with_way_out("stop tracing some of them: deft trace off"));
        }
        on.push(tracing.clone());
        drop(on);
        tracing::warn!(
            "calls of `{model}` are traced until {until}: prompts and answers are kept in memory"
        );
        self.changes.send_replace(());
        Ok(tracing)
    }

    /// Stops tracing the calls of a model, or of all.
    pub(crate) fn stop(&self, model: Option<&str>) {
        self.on.lock().retain(|tracing| model.is_some_and(|model| tracing.model != model));
        tracing::info!("calls of {} are not traced any more", model.unwrap_or("all models"));
        self.changes.send_replace(());
    }

    /// How long a trace of a call of this variant is kept; none if its calls are not traced.
    pub(crate) fn keeps(&self, variant: &str) -> Option<u64> {
        let now = Utc::now();
        let of_it = |tracing: &&Tracing| {
            let rest = variant.strip_prefix(&tracing.model);
            tracing.until > now && rest.is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
        };
        self.on.lock().iter().find(of_it).map(|tracing| tracing.keep_seconds)
    }

    fn keep(&self, trace: Trace) {
        let mut kept = self.kept.lock();
        kept.push_back(Arc::new(trace));
        let mut bytes: usize = kept.iter().map(|trace| size(trace)).sum();
        while bytes > MOST_BYTES {
            let Some(oldest) = kept.pop_front() else { break };
            bytes -= size(&oldest);
        }
    }

    /// The traces, the newest first.
    pub(crate) fn list(&self) -> Vec<TraceSummary> {
        self.kept.lock().iter().rev().map(|trace| trace.summary.clone()).collect()
    }

    /// The trace of a call.
    pub(crate) fn find(&self, call: Uuid) -> Option<Arc<Trace>> {
        self.kept.lock().iter().find(|trace| trace.summary.call == call).cloned()
    }

    /// Deletes all traces; returns how many.
    pub(crate) fn delete(&self) -> usize {
        std::mem::take(&mut *self.kept.lock()).len()
    }

    /// Ends what is over.
    fn end(&self, now: DateTime<Utc>) {
        self.kept.lock().retain(|trace| trace.summary.deleted_at > now);
        let mut on = self.on.lock();
        let before = on.len();
        on.retain(|tracing| tracing.until > now);
        let has_changed = on.len() < before;
        drop(on);
        if has_changed {
            self.changes.send_replace(());
        }
    }
}

fn seconds(count: u64) -> TimeDelta {
    TimeDelta::seconds(i64::try_from(count).unwrap_or(i64::MAX / 1000))
}

fn within(field: &str, given: u64, most: u64) -> Result<(), Problem> {
    if (1..=most).contains(&given) {
        return Ok(());
    }
    let detail = format!("`{field}` is {given}; it must be 1 to {most}");
    Err(Problem::new(ProblemKind::Invalid, "field_out_of_range", detail).at_field(field))
}

fn size(trace: &Trace) -> usize {
    let text = |text: &Option<String>| text.as_ref().map_or(0, String::len);
    let output: usize = trace.answers.iter().map(|answer| answer.output.len()).sum();
    trace.prompt.len() + text(&trace.constraint) + text(&trace.call_form) + output
}

/// A trace of a call under way.
pub(crate) struct Growing {
    traces: Arc<Traces>,
    keep_seconds: u64,
    prompt: String,
    constraint: Option<String>,
    call_form: Option<String>,
    answers: BTreeMap<u32, GrowingAnswer>,
}

#[derive(Default)]
struct GrowingAnswer {
    bytes: Vec<u8>,
    stopped: Option<String>,
}

impl Growing {
    /// A trace of a call of this variant, if its calls are traced.
    pub(crate) fn of(traces: &Arc<Traces>, variant: &str) -> Option<Self> {
        Some(Self {
            keep_seconds: traces.keeps(variant)?,
            traces: Arc::clone(traces),
            prompt: String::new(),
            constraint: None,
            call_form: None,
            answers: BTreeMap::new(),
        })
    }

    /// Adds what the engine process reports.
    pub(crate) fn add(&mut self, answer: u32, step: TraceStep) {
        match step {
            TraceStep::Prompt { text, constraint, call_form } => {
                // A retry reports it again, and begins anew.
                self.answers.clear();
                (self.prompt, self.constraint, self.call_form) = (text, constraint, call_form);
            }
            TraceStep::Output(bytes) => {
                let all = &mut self.answers.entry(answer).or_default().bytes;
                let room = MAX_OUTPUT.saturating_sub(all.len());
                all.extend(bytes.into_iter().take(room));
            }
            TraceStep::Stopped(text) => {
                self.answers.entry(answer).or_default().stopped = Some(text);
            }
        }
    }

    /// Keeps it; the call has ended.
    pub(crate) fn keep(
        self,
        call: Uuid,
        name: String,
        caller: String,
        arrived: (DateTime<Utc>, &str),
    ) {
        let (arrived_at, outcome) = arrived;
        let answers: Vec<TracedAnswer> = self.answers.into_values().map(read).collect();
        let summary = TraceSummary {
            call,
            name,
            caller,
            arrived_at,
            outcome: outcome.to_owned(),
            stopped: answers.iter().any(|answer| answer.stopped_at.is_some()),
            deleted_at: Utc::now() + seconds(self.keep_seconds),
        };
        let Self { prompt, constraint, call_form, .. } = self;
        self.traces.keep(Trace { summary, prompt, constraint, call_form, answers });
    }
}

fn read(answer: GrowingAnswer) -> TracedAnswer {
    let output = String::from_utf8_lossy(&answer.bytes).into_owned();
    let end = |stopped: String| {
        let at = output.rfind(&stopped)? + stopped.len();
        Some(output[..at].chars().count())
    };
    TracedAnswer { stopped_at: answer.stopped.and_then(end), output }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn request(seconds: u64, keep_seconds: Option<u64>) -> TracingRequest {
        TracingRequest { model: "larkfen-desk".to_owned(), seconds, keep_seconds }
    }

    fn trace(traces: &Arc<Traces>, bytes: usize) -> Uuid {
        let mut growing = Growing::of(traces, "larkfen-desk/q8_0").unwrap();
        let text = "x".repeat(bytes);
        growing.add(0, TraceStep::Prompt { text, constraint: None, call_form: None });
        growing.add(1, TraceStep::Output("Sö <call>{\"na".as_bytes().to_vec()));
        growing.add(1, TraceStep::Stopped("<call>{\"".to_owned()));
        let id = Uuid::now_v7();
        growing.keep(id, "larkfen-desk/q8_0".to_owned(), "agent".to_owned(), (Utc::now(), "stop"));
        id
    }

    #[tokio::test]
    async fn calls_of_a_traced_model_are_kept_until_their_time_is_over() {
        let traces = Traces::start();
        assert!(Growing::of(&traces, "larkfen-desk/q8_0").is_none(), "it is off by default");
        traces.begin("larkfen-desk", &request(60, Some(10))).unwrap();
        assert!(traces.keeps("larkfen-desk-mini/q8_0").is_none(), "that is another model");
        let id = trace(&traces, 9);
        let found = traces.find(id).unwrap();
        assert_eq!((found.answers[0].stopped_at, found.summary.stopped), (Some(11), true));
        traces.end(Utc::now() + TimeDelta::seconds(11));
        assert!(traces.find(id).is_none() && traces.on().len() == 1);
        traces.end(Utc::now() + TimeDelta::seconds(61));
        assert!(traces.on().is_empty() && traces.keeps("larkfen-desk/q8_0").is_none());
    }

    #[tokio::test]
    async fn traces_take_no_more_memory_than_allowed() {
        let traces = Traces::start();
        traces.begin("larkfen-desk", &request(60, None)).unwrap();
        let ids: Vec<Uuid> = (0..5).map(|_| trace(&traces, MOST_BYTES / 4)).collect();
        let found: Vec<bool> = ids.iter().map(|id| traces.find(*id).is_some()).collect();
        assert_eq!(found, [false, false, true, true, true]);
        assert_eq!((traces.delete(), traces.list().len()), (3, 0));
        for (seconds, keep) in
            [(0, None), (LONGEST + 1, None), (1, Some(0)), (1, Some(KEPT_LONGEST + 1))]
        {
            assert!(traces.begin("larkfen-desk", &request(seconds, keep)).is_err());
        }
        traces.stop(Some("other"));
        assert_eq!(traces.on().len(), 1);
        traces.stop(None);
        assert!(traces.on().is_empty());
    }
}
