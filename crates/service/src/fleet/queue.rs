//! Queues of calls that wait for a lane. All instances of a variant serve one queue, also while they load.
//! [`deft_planning::queue`] decides which call is next.

use std::sync::Arc;
use std::time::{Duration, Instant};

use deft_planning::queue::{Class, Holding, Queue};
use deft_protocol::Problem;
use deft_protocol::manage::{InstanceState, Origin};
use parking_lot::Mutex;
use tokio::sync::oneshot;
use tokio::sync::oneshot::error::TryRecvError;
use uuid::Uuid;

use super::actor::Actor;
use super::instance::Instance;
use super::room::Pending;
use super::{Seat, Target};
use crate::loading::refusals;

/// Least time between two reports of queue positions.
const REPORT_EVERY: Duration = Duration::from_millis(50);

/// A call that needs a seat: a number of lanes of an instance.
#[derive(Clone)]
pub(crate) struct Asker {
    pub(crate) caller: String,
    pub(crate) class: Class,
    /// Number of lanes that the call uses in parallel.
    pub(crate) lanes: u32,
    /// Longest wait for load and lane, if the call names one.
    pub(crate) deadline: Option<Duration>,
    /// Where its queue position is reported.
    pub(crate) place: Arc<QueuePosition>,
}

/// The queue position of a call, shared with its observers.
#[derive(Debug, Default)]
pub(crate) struct QueuePosition(Mutex<Option<QueueReport>>);

/// A report of a queue position.
#[derive(Debug, Clone, Copy)]
pub(crate) struct QueueReport {
    /// Position; 1 is next.
    pub(crate) position: u32,
    /// Expected wait.
    pub(crate) expected: Option<Duration>,
    /// Whether an instance is ready, or has been since the call arrived; then the call waits for lanes, not for a load.
    pub(crate) is_loaded: bool,
}

impl QueuePosition {
    /// The latest report; none if the call does not wait.
    pub(crate) fn report(&self) -> Option<QueueReport> {
        *self.0.lock()
    }

    fn notify(&self, report: Option<QueueReport>) {
        let mut place = self.0.lock();
        let was_loaded = place.is_some_and(|report| report.is_loaded);
        *place = report
            .map(|report| QueueReport { is_loaded: report.is_loaded || was_loaded, ..report });
    }
}

/// A waiting call.
struct Ticket {
    asker: Asker,
    answer: oneshot::Sender<Result<Seat, Problem>>,
}

impl Drop for Ticket {
    fn drop(&mut self) {
        self.asker.place.notify(None);
    }
}

/// Sent when a seat is returned.
pub(crate) struct Left {
    pub(super) variant: Uuid,
    pub(super) caller: String,
    /// Number of its lanes.
    pub(super) lanes: u32,
    /// Whether the queue gave it.
    pub(super) from_queue: bool,
    pub(super) held: Duration,
}

/// The queue of a variant.
#[derive(Default)]
pub(super) struct CallQueue {
    waiting: Queue<Ticket>,
    holding: Holding,
    last_report: Option<Instant>,
    /// What to load for waiting calls, if the instance was evicted.
    pub(super) reload: Option<Target>,
    /// A running load for waiting calls.
    loading: Option<oneshot::Receiver<Result<Uuid, Problem>>>,
}

impl CallQueue {
    fn refuse(&mut self, problem: &Problem) {
        self.waiting.drain().into_iter().for_each(|ticket| ticket.give(Err(problem.clone())));
    }
}

impl Actor {
    /// Puts a call into the queue of a variant. The receiver gets a seat or a refusal. None if the variant is not loaded.
    pub(super) fn seat(
        &mut self,
        variant: Uuid,
        asker: Asker,
    ) -> Option<oneshot::Receiver<Result<Seat, Problem>>> {
        let meant = |found: &&Instance| found.target.variant == variant && found.holds_memory();
        let there = self.instances.values().filter(meant).count();
        let lanes = self.lanes(variant);
        if there == 0 {
            return None;
        }
        // A call that needs no lane does not wait for the others, but there may not be many of them at once.
        let at_once = if asker.lanes == 0 { self.free_instance(variant, 0) } else { None };
        let at_once = at_once.and_then(|id| self.instances.get(&id)?.seat(&asker));
        if let Some(given) = at_once {
            let (answer, seat) = oneshot::channel();
            let _ = answer.send(Ok(given));
            return Some(seat);
        }
        let now = self.begun.elapsed();
        let is_loaded = self.is_loaded(variant);
        let has_free = self.free_instance(variant, asker.lanes).is_some();
        let queue = self.queues.entry(variant).or_default();
        queue.waiting.retain(|ticket| !ticket.answer.is_closed());
        let most = (self.queue * there).max(usize::from(has_free && queue.waiting.is_empty()));
        let (answer, seat) = oneshot::channel();
        if queue.waiting.len() >= most {
            let wait = queue.holding.expected(most + 1, lanes);
            let _ = answer.send(Err(refusals::queue_full(most, wait)));
            return Some(seat);
        }
        let (caller, class) = (asker.caller.clone(), asker.class);
        let position = u32::try_from(queue.waiting.len() + 1).unwrap_or(u32::MAX);
        asker.place.notify(Some(QueueReport { position, expected: None, is_loaded }));
        let pushed = queue.waiting.push(Ticket { asker, answer }, &caller, class, most, now);
        debug_assert!(pushed.is_ok(), "it was seen to have room");
        Some(seat)
    }

    /// Notes that a seat was returned.
    pub(super) fn left(&mut self, left: &Left) {
        let Some(queue) = self.queues.get_mut(&left.variant) else { return };
        if left.from_queue {
            queue.waiting.returned(&left.caller);
        }
        if left.lanes > 0 {
            queue.holding.note(left.held);
        }
    }

    /// The least busy instance with that many free lanes, or with all lanes free if it has fewer.
    fn free_instance(&self, variant: Uuid, lanes: u32) -> Option<Uuid> {
        let free = |found: &&Instance| found.target.variant == variant && found.has_free(lanes);
        let found = self.instances.values().filter(free).min_by_key(|found| found.eagerness());
        found.map(|found| found.id)
    }

    /// Number of calls that wait for a variant.
    pub(super) fn queued(&self, variant: Uuid) -> u32 {
        let waiting = self.queues.get(&variant).map_or(0, |queue| queue.waiting.len());
        u32::try_from(waiting).unwrap_or(u32::MAX)
    }

    /// Gives free lanes to waiting calls.
    pub(super) fn serve_all(&mut self) {
        let variants: Vec<Uuid> = self.queues.keys().copied().collect();
        for variant in variants {
            self.serve(variant);
        }
        let instances = &self.instances;
        self.queues.retain(|&variant, queue| {
            !queue.waiting.is_empty()
                || instances.values().any(|found| found.target.variant == variant)
        });
    }

    fn serve(&mut self, variant: Uuid) {
        let now = self.begun.elapsed();
        loop {
            let Some(queue) = self.queues.get_mut(&variant) else { return };
            queue.waiting.retain(|ticket| !ticket.answer.is_closed());
            let Some(next) = queue.waiting.peek(now) else {
                // No call waits any more, so its load is no longer wanted.
                queue.loading = None;
                return;
            };
            let lanes = next.asker.lanes;
            let Some(free) = self.free_instance(variant, lanes) else { break };
            let Some(queue) = self.queues.get_mut(&variant) else { return };
            let (Some(ticket), Some(instance)) =
                (queue.waiting.pop(now), self.instances.get_mut(&free))
            else {
                return;
            };
            if let Some(mut seat) = instance.seat(&ticket.asker) {
                seat.from_queue = true;
                ticket.give(Ok(seat));
            }
        }
        match self.nobody_comes(variant) {
            Some(problem) => {
                if let Some(queue) = self.queues.get_mut(&variant) {
                    queue.refuse(&problem);
                }
            }
            None => {
                self.load_for(variant);
                self.tell_places(variant);
            }
        }
    }

    /// Reloads an evicted instance for the calls that wait for it.
    fn load_for(&mut self, variant: Uuid) {
        let is_there = self.instances.values().any(|found| {
            found.target.variant == variant
                && !matches!(found.state, InstanceState::Evicted | InstanceState::Failed)
        });
        let Some(queue) = self.queues.get_mut(&variant) else { return };
        if let Some(loading) = &mut queue.loading {
            match loading.try_recv() {
                Err(TryRecvError::Empty) => return,
                Ok(Err(problem)) => {
                    (queue.loading, queue.reload) = (None, None);
                    queue.refuse(&problem);
                    return;
                }
                Ok(Ok(_)) | Err(TryRecvError::Closed) => queue.loading = None,
            }
        }
        let Some(target) = queue.reload.clone().filter(|_| !is_there) else { return };
        let (answer, loaded) = oneshot::channel();
        queue.loading = Some(loaded);
        self.load_or_wait(Pending::new(Uuid::now_v7(), target, Origin::OnDemand, answer));
    }

    /// Number of lanes of all instances of a variant.
    fn lanes(&self, variant: Uuid) -> u32 {
        let meant = self.instances.values().filter(|found| found.target.variant == variant);
        meant.map(|found| found.target.settings.lanes).sum()
    }

    fn is_loaded(&self, variant: Uuid) -> bool {
        let ready = |found: &Instance| found.target.variant == variant && found.is_ready();
        self.instances.values().any(ready)
    }

    /// The refusal for waiting calls if no instance will serve them.
    fn nobody_comes(&self, variant: Uuid) -> Option<Problem> {
        let comes_back = self.queues.get(&variant).is_some_and(|queue| queue.reload.is_some());
        let mut problem = (!comes_back).then(refusals::unloaded);
        for found in self.instances.values().filter(|found| found.target.variant == variant) {
            match found.state {
                InstanceState::Ready | InstanceState::Loading | InstanceState::Restarting => {
                    return None;
                }
                InstanceState::Draining if comes_back || self.is_replaced(&found.target) => {
                    return None;
                }
                InstanceState::Draining => {
                    problem = Some(refusals::draining(&found.target.title()));
                }
                InstanceState::Failed => problem = found.problem.clone().or(problem),
                InstanceState::Evicted => {}
            }
        }
        problem
    }

    /// Reports queue positions to waiting calls.
    fn tell_places(&mut self, variant: Uuid) {
        let (lanes, now) = (self.lanes(variant), self.begun.elapsed());
        let is_loaded = self.is_loaded(variant);
        let Some(queue) = self.queues.get_mut(&variant) else { return };
        if queue.last_report.is_some_and(|last| last.elapsed() < REPORT_EVERY) {
            // The next tick of the fleet reports them.
            return;
        }
        queue.last_report = Some(Instant::now());
        for (at, ticket) in (1..).zip(queue.waiting.in_order(now)) {
            let position = u32::try_from(at).unwrap_or(u32::MAX);
            let expected = queue.holding.expected(at, lanes);
            ticket.asker.place.notify(Some(QueueReport { position, expected, is_loaded }));
        }
    }
}

impl Ticket {
    fn give(mut self, result: Result<Seat, Problem>) {
        let (nobody, _) = oneshot::channel();
        // If the call has gone, dropping the seat returns it.
        let _ = std::mem::replace(&mut self.answer, nobody).send(result);
    }
}
