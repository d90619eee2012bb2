//! Running calls. Each call is on the board from its arrival to its end, so that operators can see its stage and cancel
//! it, and a waiting caller can be informed.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::{Duration, Instant};

use chrono::{DateTime, Utc};
use deft_planning::queue::Class;
use deft_protocol::chat::CallPriority;
use deft_protocol::manage::{CallStage, InstanceReport, InstanceState, RunningCall};
use deft_protocol::{Problem, ProblemKind};
use parking_lot::Mutex;
use tokio::sync::watch;
use tokio_util::sync::CancellationToken;
use uuid::Uuid;

use crate::fleet::{Asker, QueuePosition};

/// Problem code of a call that an operator cancelled.
pub(crate) const CALL_ENDED: &str = "call_cancelled";
/// All running calls; cheap to clone.
#[derive(Clone)]
pub(crate) struct Board {
    calls: Arc<Mutex<BTreeMap<Uuid, Arc<Entry>>>>,
    changes: watch::Sender<()>,
}

struct Entry {
    id: Uuid,
    caller: String,
    arrived_at: DateTime<Utc>,
    clock: Instant,
    place: Arc<QueuePosition>,
    standing: Mutex<Standing>,
    end: CancellationToken,
}

/// The stage of a call and its counts.
struct Standing {
    name: String,
    caller: Option<String>,
    priority: CallPriority,
    stays_in_background: bool,
    stage: CallStage,
    prompt_tokens: Option<u32>,
    /// Prompt processing: tokens at its beginning, tokens now, and when it began.
    taken: (u32, u32),
    intake_began: Instant,
    answer_tokens: u32,
    first_token_seconds: Option<f64>,
}

impl Board {
    pub(crate) fn new() -> Self {
        Self { calls: Arc::default(), changes: watch::Sender::new(()) }
    }

    /// Adds a call with a new id, for a model as its caller names it.
    pub(crate) fn arrive(&self, id: Uuid, model: &str, caller: &str) -> Arrived {
        let entry = Arc::new(Entry {
            id,
            caller: caller.to_owned(),
            arrived_at: Utc::now(),
            clock: Instant::now(),
            place: Arc::default(),
            standing: Mutex::new(Standing {
                name: model.to_owned(),
                caller: None,
                priority: CallPriority::default(),
                stays_in_background: false,
                stage: CallStage::Waiting,
                prompt_tokens: None,
                taken: (0, 0),
                intake_began: Instant::now(),
                answer_tokens: 0,
                first_token_seconds: None,
            }),
            end: CancellationToken::new(),
        });
        self.calls.lock().insert(entry.id, Arc::clone(&entry));
        self.changes.send_replace(());
        Arrived { watched: Watched { entry }, board: self.clone() }
    }

    /// Reports of all calls, oldest first. `instances` shows which models are being loaded.
    pub(crate) fn all(&self, instances: &[InstanceReport]) -> Vec<RunningCall> {
        let entries: Vec<Arc<Entry>> = self.calls.lock().values().cloned().collect();
        entries.into_iter().map(|entry| Watched { entry }.report(instances)).collect()
    }

    /// Cancels a call for an operator.
    pub(crate) fn end(&self, id: Uuid) -> Result<(), Problem> {
        let entry = self.calls.lock().get(&id).cloned();
        let entry = entry.ok_or_else(|| {
            let detail = format!("call {id} is not running; it may have finished");
            Problem::new(ProblemKind::Missing, "no_call", detail)
                .with_way_out("show calls: deft calls")
        })?;
        entry.end.cancel();
        Ok(())
    }

    /// Notified of each change.
    pub(crate) fn changes(&self) -> watch::Receiver<()> {
        self.changes.subscribe()
    }
}

/// A call as its observers see it.
#[derive(Clone)]
pub(crate) struct Watched {
    entry: Arc<Entry>,
}

impl Watched {
    /// Its present state.
    pub(crate) fn report(&self, instances: &[InstanceReport]) -> RunningCall {
        let Entry { id, caller, arrived_at, clock, standing, place, .. } = &*self.entry;
        let standing = standing.lock();
        let mut call = RunningCall {
            id: *id,
            name: standing.name.clone(),
            caller: standing.caller.as_ref().unwrap_or(caller).clone(),
            priority: standing.priority,
            arrived_at: *arrived_at,
            stage: standing.stage,
            position: None,
            share: None,
            seconds_left: None,
            prompt_tokens: standing.prompt_tokens,
            answer_tokens: standing.answer_tokens,
            first_token_seconds: standing.first_token_seconds,
            total_seconds: clock.elapsed().as_secs_f64(),
        };
        match standing.stage {
            CallStage::Waiting => {
                let loading = |found: &&InstanceReport| {
                    found.name == standing.name && found.state == InstanceState::Loading
                };
                if let Some(instance) = instances.iter().find(loading) {
                    (call.stage, call.share) = (CallStage::Loading, instance.load_share);
                }
                if let Some(report) = place.report() {
                    call.position = Some(report.position);
                    call.seconds_left = report.expected.map(|left| left.as_secs_f64());
                }
            }
            CallStage::Prompt => {
                let (before, done) = standing.taken;
                let all = standing.prompt_tokens.unwrap_or(0).max(1);
                call.share = Some(f64::from(done) / f64::from(all));
                if done > before {
                    let rate =
                        standing.intake_began.elapsed().as_secs_f64() / f64::from(done - before);
                    call.seconds_left = Some(rate * f64::from(all.saturating_sub(done)));
                }
            }
            CallStage::Loading | CallStage::Answering | CallStage::Paused => {}
        }
        call
    }
}

/// A call on the board; dropping it removes the call.
pub(crate) struct Arrived {
    watched: Watched,
    board: Board,
}

impl Arrived {
    pub(crate) fn id(&self) -> Uuid {
        self.watched.entry.id
    }

    pub(crate) fn at(&self) -> DateTime<Utc> {
        self.watched.entry.arrived_at
    }

    pub(crate) fn elapsed(&self) -> f64 {
        self.watched.entry.clock.elapsed().as_secs_f64()
    }

    pub(crate) fn watched(&self) -> Watched {
        self.watched.clone()
    }

    /// Waits until an operator cancels the call. Cancel safe.
    pub(crate) async fn ended_by_operator(&self) -> Problem {
        self.watched.entry.end.cancelled().await;
        let detail = "an operator of the service cancelled this call";
        Problem::new(ProblemKind::Refused, CALL_ENDED, detail)
    }

    fn change(&self, change: impl FnOnce(&mut Standing)) {
        change(&mut self.watched.entry.standing.lock());
        self.board.changes.send_replace(());
    }

    /// Sets the caller that the request names, and the priority.
    pub(crate) fn asks(&self, caller: Option<String>, priority: CallPriority) {
        self.change(|standing| {
            standing.caller = caller;
            if !standing.stays_in_background {
                standing.priority = priority;
            }
        });
    }

    /// The call waits behind all others, whatever it asks.
    pub(crate) fn stays_in_background(&self) {
        self.change(|standing| {
            (standing.priority, standing.stays_in_background) = (CallPriority::Background, true);
        });
    }

    /// The call as the queue needs it.
    pub(crate) fn asker(&self, lanes: u32, deadline: Option<Duration>) -> Asker {
        let entry = &self.watched.entry;
        let class = match entry.standing.lock().priority {
            CallPriority::Urgent => Class::Urgent,
            CallPriority::Usual => Class::Usual,
            CallPriority::Background => Class::Background,
        };
        Asker { caller: self.caller(), class, lanes, deadline, place: Arc::clone(&entry.place) }
    }

    pub(crate) fn caller(&self) -> String {
        let entry = &self.watched.entry;
        entry.standing.lock().caller.as_ref().unwrap_or(&entry.caller).clone()
    }

    /// Notes that the call is paused, because older calls need its pages.
    pub(crate) fn paused(&self) {
        self.change(|standing| standing.stage = CallStage::Paused);
    }

    /// Sets the variant that answers.
    pub(crate) fn meant(&self, name: &str) {
        self.change(|standing| name.clone_into(&mut standing.name));
    }

    /// Notes that the call waits for a lane, possibly again.
    pub(crate) fn waits(&self) {
        self.change(|standing| standing.stage = CallStage::Waiting);
    }

    /// Notes that the call has a lane, and the length of its prompt.
    pub(crate) fn has_lane(&self, prompt_tokens: u32) {
        self.change(|standing| {
            standing.stage = CallStage::Prompt;
            standing.prompt_tokens = Some(prompt_tokens);
            standing.taken = (0, 0);
            standing.intake_began = Instant::now();
        });
    }

    /// Notes how many prompt tokens are processed.
    pub(crate) fn took_in(&self, done: u32) {
        self.change(|standing| {
            if standing.stage == CallStage::Paused {
                standing.stage = CallStage::Prompt;
            }
            if standing.taken.0 == 0 {
                // Cached tokens took no time.
                standing.taken.0 = done;
                standing.intake_began = Instant::now();
            }
            standing.taken.1 = done;
        });
    }

    /// Notes a piece of the answer.
    pub(crate) fn answered(&self) {
        let seconds = self.elapsed();
        self.change(|standing| {
            standing.stage = CallStage::Answering;
            standing.answer_tokens += 1;
            standing.first_token_seconds.get_or_insert(seconds);
        });
    }
}

impl Drop for Arrived {
    fn drop(&mut self) {
        self.board.calls.lock().remove(&self.id());
        self.board.changes.send_replace(());
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_call_is_on_the_board_from_its_arrival_to_its_end() {
        let board = Board::new();
        let call = board.arrive(Uuid::now_v7(), "larkfen-desk", "deft at 127.0.0.1");
        let seen = || board.all(&[]).remove(0);
        assert_eq!((seen().stage, seen().standing()), (CallStage::Waiting, "waiting".to_owned()));
        call.meant("larkfen-desk/q8_0");
        call.has_lane(400);
        assert_eq!(seen().share, Some(0.0));
        call.took_in(100);
        assert_eq!(seen().seconds_left, None, "what was known before says nothing of the pace");
        call.took_in(300);
        let prompt = seen();
        assert_eq!((prompt.share, prompt.prompt_tokens), (Some(0.75), Some(400)));
        assert!(prompt.seconds_left.is_some());
        assert!(prompt.standing().starts_with("processing the prompt, 75 %, about"));
        call.answered();
        call.answered();
        let answering = seen();
        assert_eq!((answering.stage, answering.answer_tokens), (CallStage::Answering, 2));
        assert_eq!((answering.share, answering.name.as_str()), (None, "larkfen-desk/q8_0"));
        assert!(answering.first_token_seconds.is_some());
        let id = call.id();
        drop(call);
        assert!(board.all(&[]).is_empty());
        assert_eq!(board.end(id).unwrap_err().code, "no_call", "it ended before");
    }

    #[tokio::test]
    async fn an_operator_ends_a_call() {
        let board = Board::new();
        let call = board.arrive(Uuid::now_v7(), "larkfen-desk", "deft at 127.0.0.1");
        board.end(call.id()).unwrap();
        assert_eq!(call.ended_by_operator().await.code, "call_cancelled");
    }
}
