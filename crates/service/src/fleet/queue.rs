//! Calls that wait for a lane. All instances of a variant serve one queue, also those that are just being
//! loaded; [`deft_planning::queue`] says who is next.

use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use deft_planning::queue::{Class, Holding, Queue};
use deft_protocol::Problem;
use deft_protocol::manage::{InstanceState, Origin};
use tokio::sync::oneshot;
use tokio::sync::oneshot::error::TryRecvError;
use uuid::Uuid;

use super::Seat;
use super::actor::Actor;
use super::instance::{Instance, Target};
use super::room::Pending;
use crate::loading::refusals;

/// Places in the queue are told no more often.
const TELL_EVERY: Duration = Duration::from_millis(50);

/// Who asks for a seat.
#[derive(Clone)]
pub(crate) struct Asker {
    pub(crate) caller: String,
    pub(crate) class: Class,
    /// Lanes that the call uses at once.
    pub(crate) lanes: u32,
    /// How long it waits for load and lane, where the call says so itself.
    pub(crate) deadline: Option<Duration>,
    /// Where it is told how it stands.
    pub(crate) place: Arc<QueuePosition>,
}

/// A call's place in a queue, for whoever looks at it.
#[derive(Debug, Default)]
pub(crate) struct QueuePosition(Mutex<Option<Standing>>);

/// What is told of a place.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Standing {
    /// 1 is next.
    pub(crate) position: u32,
    /// How long it will probably take.
    pub(crate) expected: Option<Duration>,
    /// Whether an instance is ready, or was since it came: then it is lanes that are waited for.
    pub(crate) is_loaded: bool,
}

impl QueuePosition {
    /// How it stands; none where it does not wait.
    pub(crate) fn told(&self) -> Option<Standing> {
        *self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn tell(&self, told: Option<Standing>) {
        let mut place = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let was_loaded = place.is_some_and(|told| told.is_loaded);
        *place = told.map(|told| Standing { is_loaded: told.is_loaded || was_loaded, ..told });
    }
}

/// A call that waits.
struct Ticket {
    asker: Asker,
    answer: oneshot::Sender<Result<Seat, Problem>>,
}

impl Drop for Ticket {
    fn drop(&mut self) {
        self.asker.place.tell(None);
    }
}

/// What a seat tells when it is given back.
pub(crate) struct Left {
    pub(super) variant: Uuid,
    pub(super) caller: String,
    pub(super) held: Duration,
}

/// The queue of a variant.
#[derive(Default)]
pub(super) struct CallQueue {
    waiting: Queue<Ticket>,
    holding: Holding,
    told: Option<Instant>,
    /// What is loaded for those who wait, where the instance made room for others.
    pub(super) reload: Option<Target>,
    /// A load for those who wait.
    loading: Option<oneshot::Receiver<Result<Uuid, Problem>>>,
}

impl CallQueue {
    fn refuse(&mut self, problem: &Problem) {
        self.waiting.drain().into_iter().for_each(|ticket| ticket.give(Err(problem.clone())));
    }
}

impl Actor {
    /// A seat at an instance of a variant, or a place in its queue; none where it is not loaded.
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
        asker.place.tell(Some(Standing { position, expected: None, is_loaded }));
        let pushed = queue.waiting.push(Ticket { asker, answer }, &caller, class, most, now);
        debug_assert!(pushed.is_ok(), "it was seen to have room");
        Some(seat)
    }

    /// A seat was given back.
    pub(super) fn left(&mut self, left: &Left) {
        if let Some(queue) = self.queues.get_mut(&left.variant) {
            queue.waiting.returned(&left.caller);
            queue.holding.note(left.held);
        }
    }

    /// The least busy instance that has so many lanes free, or all of them where it has fewer.
    fn free_instance(&self, variant: Uuid, lanes: u32) -> Option<Uuid> {
        let free = |found: &&Instance| found.target.variant == variant && found.has_free(lanes);
        let found = self.instances.values().filter(free).min_by_key(|found| found.eagerness());
        found.map(|found| found.id)
    }

    /// How many wait for a variant.
    pub(super) fn queued(&self, variant: Uuid) -> u32 {
        let waiting = self.queues.get(&variant).map_or(0, |queue| queue.waiting.len());
        u32::try_from(waiting).unwrap_or(u32::MAX)
    }

    /// Gives free lanes to those who wait.
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
                // Nothing is loaded for nobody.
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
            if let Some(seat) = instance.seat(&ticket.asker) {
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

    /// Loads again what made room for others, for those who wait for it.
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

    /// Lanes of all its instances.
    fn lanes(&self, variant: Uuid) -> u32 {
        let meant = self.instances.values().filter(|found| found.target.variant == variant);
        meant.map(|found| found.target.settings.lanes).sum()
    }

    fn is_loaded(&self, variant: Uuid) -> bool {
        let ready = |found: &Instance| found.target.variant == variant && found.is_ready();
        self.instances.values().any(ready)
    }

    /// Why no instance will serve those who wait, if so.
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

    /// Tells those who wait how they stand.
    fn tell_places(&mut self, variant: Uuid) {
        let (lanes, now) = (self.lanes(variant), self.begun.elapsed());
        let is_loaded = self.is_loaded(variant);
        let Some(queue) = self.queues.get_mut(&variant) else { return };
        if queue.told.is_some_and(|told| told.elapsed() < TELL_EVERY) {
            // The fleet's clock comes back to it.
            return;
        }
        queue.told = Some(Instant::now());
        for (at, ticket) in (1..).zip(queue.waiting.in_order(now)) {
            let position = u32::try_from(at).unwrap_or(u32::MAX);
            let expected = queue.holding.expected(at, lanes);
            ticket.asker.place.tell(Some(Standing { position, expected, is_loaded }));
        }
    }
}

impl Ticket {
    fn give(mut self, result: Result<Seat, Problem>) {
        let (nobody, _) = oneshot::channel();
        // Whoever left meanwhile gives the seat back by dropping it.
        let _ = std::mem::replace(&mut self.answer, nobody).send(result);
    }
}
