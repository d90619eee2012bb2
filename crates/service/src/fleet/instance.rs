//! One instance: its requested settings and its present state.
//!
//! | state      | leaves it when                  | to                    |
//! |------------|---------------------------------|-----------------------|
//! | loading    | the engine says it is loaded    | ready                 |
//! |            | the engine says it cannot load  | failed                |
//! |            | the process ends unasked        | restarting, or failed |
//! | ready      | unload                          | draining              |
//! |            | the process ends unasked        | restarting, or failed |
//! | restarting | its pause is over               | loading               |
//! | draining   | the process ends                | gone, or evicted      |
//! | failed     | load again, or unload           | loading, or gone      |
//! | evicted    | a call, or memory again         | loading               |
//! |            | unload                          | gone                  |

use std::sync::Arc;
use std::sync::atomic::{AtomicU32, Ordering};
use std::time::{Duration, Instant};

use chrono::{DateTime, Utc};
use deft_engine::baton::{BatonTimes, Board};
use deft_planning::{Grant, Weights};
use deft_protocol::Problem;
use deft_protocol::engine::{BatonOrder, EngineStanding, LINK_VERSION, LoadOrder, PlaceOrder};
use deft_protocol::manage::{
    IdleLimit, InstanceReport, InstanceState, InstanceWork, Origin, Settings,
};
use tokio::sync::{mpsc, oneshot};
use uuid::Uuid;

use super::engine_link::EngineProcess;
use super::memory::Measured;
use super::pools;
use super::queue::Left;
use super::seat::UseMade;
use super::target::Target;
use crate::loading::processor::Computing;
use crate::{loading::refusals, wire};

/// Address space of a thread: its stack, and what the allocator keeps for it.
const THREAD_SPACE: u64 = 144 << 20;
/// Threads that compile grammars and compute masks.
const CONSTRAINT_THREADS: u64 = 5;
/// Address space of a process besides its plan: the program itself, and the longest possible conversation while it is
/// rendered and tokenised.
const PROCESS_SPACE: u64 = 1 << 30;
/// Most running calls without a lane: each has a prompt in the memory of the engine process.
pub(super) const MOST_LANELESS: u32 = 4;
/// Crashes in a row after which an instance counts as failed.
const GIVE_UP_AFTER: u32 = 5;
/// First pause before a crashed instance is loaded again; doubles with each crash.
const FIRST_PAUSE: Duration = Duration::from_millis(200);
/// An instance that ran this long has recovered.
const RECOVERED: Duration = Duration::from_secs(30);

/// What happens to an instance after its process has ended on request.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(super) enum Leaving {
    /// It is removed.
    #[default]
    Gone,
    /// It stays listed as evicted, with the reason; it may be reloaded automatically.
    Evicted { why: String, comes_back: bool },
}

pub(super) struct Instance {
    pub(super) id: Uuid,
    pub(super) target: Target,
    pub(super) origin: Origin,
    pub(super) state: InstanceState,
    pub(super) grant: Grant,
    pub(super) process: Option<EngineProcess>,
    /// Requests that wait until it is ready.
    pub(super) waiting: Vec<oneshot::Sender<Result<(), Problem>>>,
    pub(super) gone: Vec<oneshot::Sender<()>>,
    pub(super) note: Option<String>,
    pub(super) problem: Option<Problem>,
    pub(super) measured: Option<Measured>,
    pub(super) kernels: Option<String>,
    pub(super) load_seconds: Option<f64>,
    /// Share of its weights that is in memory, while it loads.
    pub(super) load_share: Option<f64>,
    pub(super) leaving: Leaving,
    /// State of its lanes and pages.
    pub(super) standing: Option<EngineStanding>,
    /// Computing and waiting times at the last measurement.
    pub(super) baton_times: BatonTimes,
    /// Whether it takes no more calls, because a call of another model waits for its memory.
    pub(super) takes_no_calls: bool,
    /// Why the fleet ended its process, if it did.
    pub(super) why_ended: Option<String>,
    pub(super) use_made: Arc<UseMade>,
    pub(super) lanes_used: Arc<AtomicU32>,
    /// Number of running calls without a lane.
    pub(super) laneless: Arc<AtomicU32>,
    pub(super) leaving_seats: mpsc::UnboundedSender<Left>,
    crashes: u32,
    crashes_in_a_row: u32,
    pub(super) ready_since: Option<Instant>,
    /// Since when it is down, if it should answer calls.
    pub(super) down_since: Option<DateTime<Utc>>,
}

/// What follows a crash.
#[must_use]
pub(super) enum AfterCrash {
    RestartAfter(Duration),
    GiveUp,
}

impl Instance {
    pub(super) fn new(
        id: Uuid,
        target: Target,
        origin: Origin,
        grant: Grant,
        leaving_seats: mpsc::UnboundedSender<Left>,
    ) -> Self {
        Self {
            id,
            target,
            origin,
            state: InstanceState::Loading,
            grant,
            process: None,
            waiting: Vec::new(),
            gone: Vec::new(),
            note: None,
            problem: None,
            measured: None,
            kernels: None,
            load_seconds: None,
            load_share: None,
            leaving: Leaving::Gone,
            standing: None,
            baton_times: BatonTimes::default(),
            takes_no_calls: false,
            why_ended: None,
            use_made: Arc::default(),
            lanes_used: Arc::default(),
            laneless: Arc::default(),
            leaving_seats,
            crashes: 0,
            crashes_in_a_row: 0,
            ready_since: None,
            down_since: None,
        }
    }

    /// The load order of its engine process; `board` is the baton's table.
    pub(super) fn order(
        &self,
        places: Vec<PlaceOrder>,
        computing: &Computing,
        board: Option<&Board>,
    ) -> LoadOrder {
        let settings = &self.target.settings;
        let share = self.target.policy.share;
        LoadOrder {
            baton: board.map(|board| BatonOrder { path: board.path(), share }),
            version: LINK_VERSION,
            file: self.target.path().to_owned(),
            template: self.target.template.clone(),
            context: settings.context,
            lanes: settings.lanes,
            cache_tokens: settings.cache_tokens,
            chunk: settings.chunk,
            keys: settings.keys.name().to_owned(),
            values: settings.values.name().to_owned(),
            places,
            resident: settings.weights == Weights::Resident,
            threads: settings.threads,
            kernels: computing.forced.clone(),
            fastest: computing.fastest.clone(),
            processors: computing.processors_of(settings.threads),
            processor_nodes: computing.nodes_of(settings.threads),
            nodes: computing.nodes.clone(),
            copied: computing.replicated,
            parts: self.target.files.iter().skip(1).cloned().collect(),
            memory: Some(self.most_memory()),
        }
    }

    /// Address space that its process may take: the plan with a margin, the mapped file, and what threads and the program
    /// take without using it.
    fn most_memory(&self) -> u64 {
        let planned = self.grant.demand.total().0;
        let threads = self.target.settings.threads.map_or_else(
            || std::thread::available_parallelism().map_or(1, |count| count.get() as u64),
            u64::from,
        );
        planned
            + planned / 4
            + self.target.shape.file.0
            + (threads + CONSTRAINT_THREADS) * THREAD_SPACE
            + PROCESS_SPACE
    }

    pub(super) fn is_idle(&self) -> bool {
        self.state == InstanceState::Ready && self.use_made.calls.load(Ordering::Relaxed) == 0
    }

    /// Whether memory is reserved for it.
    pub(super) fn holds_memory(&self) -> bool {
        !matches!(self.state, InstanceState::Failed | InstanceState::Evicted)
    }

    /// Order in which instances take calls: ready ones with fewer calls first, then those that are loading.
    pub(super) fn eagerness(&self) -> (u8, u32, u32) {
        let rank = match self.state {
            InstanceState::Ready if self.ready_process().is_some() => 0,
            InstanceState::Ready | InstanceState::Loading | InstanceState::Restarting => 1,
            _ => 2,
        };
        (rank, self.use_made.calls.load(Ordering::Relaxed), self.target.number)
    }

    /// Time since its last call, or since it became ready.
    pub(super) fn idle_time(&self) -> Duration {
        let ended = *self.use_made.ended.lock();
        let since = ended.max(self.ready_since);
        since.map_or(Duration::ZERO, |since| since.elapsed())
    }

    /// Why it must be unloaded now because of its idle limit, if so.
    pub(super) fn is_due(&self) -> Option<String> {
        if !self.is_idle() {
            return None;
        }
        if self.use_made.release.load(Ordering::Relaxed) && !self.target.policy.pinned {
            return Some("a call asked to unload it".to_owned());
        }
        let answered = self.use_made.ended.lock().is_some();
        match self.target.policy.idle {
            IdleLimit::Answered if answered => Some("it has no more calls".to_owned()),
            limit @ IdleLimit::Seconds(seconds) if self.idle_time().as_secs() >= seconds => {
                Some(format!("idle for {limit}"))
            }
            _ => None,
        }
    }

    /// Whether it is reloaded automatically when there is memory.
    pub(super) fn comes_back(&self) -> bool {
        self.state == InstanceState::Evicted
            && matches!(self.leaving, Leaving::Evicted { comes_back: true, .. })
    }

    /// Becomes evicted, if it was unloaded for that.
    pub(super) fn become_evicted(&mut self) -> bool {
        let Leaving::Evicted { why, .. } = &self.leaving else {
            return false;
        };
        self.note = Some(why.clone());
        self.state = InstanceState::Evicted;
        (self.process, self.measured, self.ready_since) = (None, None, None);
        self.standing = None;
        self.use_made = Arc::default();
        self.takes_no_calls = false;
        true
    }

    /// Waits for memory: it could not be reloaded at a start of the service, and will be when it fits.
    pub(super) fn wait_for_room(&mut self, problem: &Problem) {
        self.state = InstanceState::Evicted;
        self.problem = Some(problem.clone());
        let why = problem.detail.clone();
        self.leaving = Leaving::Evicted { why, comes_back: true };
    }

    /// Begins to reload after an eviction.
    pub(super) fn return_with(&mut self, grant: Grant) {
        self.grant = grant;
        self.state = InstanceState::Loading;
        (self.note, self.problem, self.leaving) = (None, None, Leaving::Gone);
    }

    /// Whether it is draining and has no calls.
    pub(super) fn is_free_to_drain(&self) -> bool {
        self.state == InstanceState::Draining && self.use_made.calls.load(Ordering::Relaxed) == 0
    }

    /// The process, if it is ready. Its end may be noticed here before the system reports it.
    pub(super) fn ready_process(&self) -> Option<&EngineProcess> {
        self.process
            .as_ref()
            .filter(|process| self.state == InstanceState::Ready && process.link.is_open())
    }

    /// Whether it takes calls.
    pub(super) fn is_ready(&self) -> bool {
        self.ready_process().is_some()
    }

    /// Whether it takes calls and has that many free lanes, or all lanes free if it has fewer.
    pub(super) fn has_free(&self, lanes: u32) -> bool {
        let all = self.target.settings.lanes;
        let used = self.lanes_used.load(Ordering::Relaxed);
        let has_free = match lanes {
            0 => self.laneless.load(Ordering::Relaxed) < MOST_LANELESS,
            lanes => used + lanes.min(all) <= all,
        };
        self.is_ready() && !self.takes_no_calls && has_free
    }

    /// Notes that no process could be started because of the limit of open files; it is retried.
    pub(super) fn wait_for_files(&mut self, why: &str) {
        self.state = InstanceState::Restarting;
        self.down_since.get_or_insert_with(Utc::now);
        self.note = Some(why.to_owned());
    }

    /// Subtracts crashes that were not its fault.
    pub(super) fn forgive(&mut self, crashes: u32) {
        self.crashes_in_a_row = self.crashes_in_a_row.saturating_sub(crashes);
    }

    pub(super) fn become_ready(&mut self, kernels: String, seconds: f64, warnings: &[String]) {
        self.state = InstanceState::Ready;
        self.down_since = None;
        self.load_share = None;
        self.ready_since = Some(Instant::now());
        self.kernels = Some(kernels);
        self.load_seconds = Some(seconds);
        self.note = (!warnings.is_empty()).then(|| warnings.join("; "));
        for answer in std::mem::take(&mut self.waiting) {
            // A request that has gone needs no answer.
            let _ = answer.send(Ok(()));
        }
    }

    /// Reports when it is ready; at once if that is already decided.
    pub(super) fn tell_when_ready(
        &mut self,
        answer: oneshot::Sender<Result<(), Problem>>,
        is_replaced: bool,
    ) {
        let settled = match (self.state, &self.problem) {
            _ if self.is_ready() => Ok(()),
            // It may have failed before the request.
            (InstanceState::Failed, Some(problem)) => Err(problem.clone()),
            (InstanceState::Draining, _) if !is_replaced => {
                Err(refusals::draining(&self.target.title()))
            }
            _ => return self.waiting.push(answer),
        };
        let _ = answer.send(settled);
    }

    pub(super) fn fail(&mut self, problem: &Problem) {
        self.state = InstanceState::Failed;
        self.down_since.get_or_insert_with(Utc::now);
        (self.note, self.problem) = (None, Some(problem.clone()));
        for answer in std::mem::take(&mut self.waiting) {
            let _ = answer.send(Err(problem.clone()));
        }
    }

    pub(super) fn crashed(&mut self, how: &str) -> AfterCrash {
        let recovered = self.ready_since.take().is_some_and(|since| since.elapsed() > RECOVERED);
        self.crashes_in_a_row = if recovered { 1 } else { self.crashes_in_a_row + 1 };
        self.crashes += 1;
        self.down_since.get_or_insert_with(Utc::now);
        (self.process, self.measured, self.load_share) = (None, None, None);
        self.standing = None;
        // Seats of the ended process use no lanes of the next process.
        self.lanes_used = Arc::default();
        self.laneless = Arc::default();
        if self.crashes_in_a_row >= GIVE_UP_AFTER {
            return AfterCrash::GiveUp;
        }
        self.state = InstanceState::Restarting;
        self.note = Some(format!("its engine process ended ({how}); it is being restarted"));
        AfterCrash::RestartAfter(FIRST_PAUSE * 2u32.pow(self.crashes_in_a_row - 1))
    }

    fn work(&self, standing: EngineStanding) -> InstanceWork {
        InstanceWork {
            lanes_busy: standing.lanes,
            lanes_paused: standing.paused,
            pages: standing.pages,
            pages_used: standing.pages_used,
            pages_cached: standing.pages_cached,
            steps: standing.steps,
            prompt_tokens: standing.prompt_tokens,
            answer_tokens: standing.answer_tokens,
            computed_seconds: self.baton_times.computed.as_secs_f64(),
            waited_seconds: self.baton_times.waited.as_secs_f64(),
        }
    }

    /// Its state; `queued` calls wait for its variant.
    pub(super) fn report(&self, queued: u32) -> InstanceReport {
        let measured = self.measured.as_ref();
        let held = pools::held(&self.grant, measured);
        InstanceReport {
            id: self.id,
            name: self.target.name.to_string(),
            state: self.state,
            origin: self.origin,
            number: self.target.number,
            settings: Settings {
                pools: wire::shares(&self.grant.placement),
                ..wire::settings(&self.target)
            },
            planned: wire::parts(&self.grant.demand),
            reserved_bytes: self.grant.demand.total().0,
            measured_bytes: measured.map(Measured::total),
            held,
            pid: self.process.as_ref().map(|process| process.pid),
            calls: self.use_made.calls.load(Ordering::Relaxed),
            queued,
            work: self.standing.map(|standing| self.work(standing)),
            prompt_tokens: self.use_made.prompt_tokens.load(Ordering::Relaxed),
            cached_tokens: self.use_made.cached_tokens.load(Ordering::Relaxed),
            answer_tokens: self.use_made.answer_tokens.load(Ordering::Relaxed),
            load_seconds: self.load_seconds,
            load_share: self.load_share.filter(|_| self.state == InstanceState::Loading),
            kernels: self.kernels.clone(),
            crashes: self.crashes,
            down_since: self.down_since,
            note: self.note.clone(),
            problem: self.problem.clone(),
        }
    }
}

#[cfg(test)]
mod tests;
