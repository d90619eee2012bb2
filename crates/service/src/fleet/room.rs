//! Eviction, idle limits and reloading.
//!
//! A call may evict idle instances. Evicted instances that the operator requested are reloaded when there is memory
//! again. A running call is never interrupted, and a reload never evicts anything.

use std::cmp::Reverse;
use std::time::{Duration, Instant};

use deft_planning::{Unused, least_valuable_first};
use deft_protocol::Problem;
use deft_protocol::manage::{InstanceState, Origin};
use tokio::sync::oneshot;
use uuid::Uuid;

use super::actor::Actor;
use super::decisions::What;
use super::instance::{Instance, Leaving};
use super::{Target, Unload};
use crate::config::Evictable;
use crate::loading::refusals::{self, DOES_NOT_FIT, DRAINING, LOADED_OTHERWISE};
use crate::wire;

/// A load that waits until others are unloaded.
pub(super) struct Pending {
    id: Uuid,
    target: Target,
    origin: Origin,
    answer: oneshot::Sender<Result<Uuid, Problem>>,
    since: Instant,
    /// Whether the decision to wait was noted.
    is_announced: bool,
    /// Whether it was noted that busy instances take no more calls for this load.
    made_way: bool,
}

impl Pending {
    pub(super) fn new(
        id: Uuid,
        target: Target,
        origin: Origin,
        answer: oneshot::Sender<Result<Uuid, Problem>>,
    ) -> Self {
        Self {
            id,
            target,
            origin,
            answer,
            since: Instant::now(),
            is_announced: false,
            made_way: false,
        }
    }

    /// Whether both are on-demand loads of the same instance.
    fn is_same(&self, other: &Self) -> bool {
        self.origin == Origin::OnDemand
            && other.origin == Origin::OnDemand
            && self.target.variant == other.target.variant
            && self.target.number == other.target.number
    }
}

/// How to get memory for a call.
enum Room {
    /// Evict these; others are being unloaded already.
    By(Vec<Uuid>),
    /// Wait until the running calls of these have finished.
    AfterCalls(Vec<Uuid>),
    /// There is no way.
    None,
}

impl Actor {
    /// Loads an instance. If others must be unloaded first, the load waits for them.
    pub(super) fn load_or_wait(&mut self, mut pending: Pending) {
        let result = self.load(pending.id, pending.target.clone(), pending.origin);
        let waits = match &result {
            Err(problem) if problem.code == DOES_NOT_FIT => match pending.origin {
                Origin::OnDemand => self.evict_for(&mut pending, problem),
                Origin::Requested => {
                    self.decisions.note(What::Refuse, &pending.target.title(), &problem.detail);
                    Ok(false)
                }
            },
            Err(problem) if problem.code == LOADED_OTHERWISE => {
                self.replace(&pending.target).map(|()| true)
            }
            // An instance that is being unloaded is loaded again afterwards.
            Err(problem) if problem.code == DRAINING && pending.origin == Origin::Requested => {
                Ok(true)
            }
            _ => Ok(false),
        };
        match waits {
            Ok(true) if self.too_many_wait(&pending) => {
                let refusal = refusals::queue_full(self.queue, None);
                drop(pending.answer.send(Err(refusal)));
            }
            Ok(true) => {
                self.pending.push(pending);
                self.drain_the_free();
            }
            Ok(false) => drop(pending.answer.send(result)),
            Err(refusal) => drop(pending.answer.send(Err(refusal))),
        }
    }

    /// Whether the queue limit of a model is reached by calls that wait for its memory.
    fn too_many_wait(&self, pending: &Pending) -> bool {
        let same = |other: &&Pending| other.is_same(pending) && !other.answer.is_closed();
        pending.origin == Origin::OnDemand
            && self.pending.iter().filter(same).count() >= self.queue.max(1)
    }

    /// Retries waiting loads, and drops those whose call has gone. Of several calls for one model only the first is
    /// planned, because the others wait for the same.
    pub(super) fn retry_pending(&mut self) {
        self.instances.values_mut().for_each(|instance| instance.takes_no_calls = false);
        for pending in std::mem::take(&mut self.pending) {
            if pending.answer.is_closed() {
                continue;
            }
            if self.pending.iter().any(|other| other.is_same(&pending)) {
                self.pending.push(pending);
            } else {
                self.load_or_wait(pending);
            }
        }
    }

    /// Whether a waiting load replaces an instance that is being unloaded.
    pub(super) fn is_replaced(&self, target: &Target) -> bool {
        self.pending.iter().any(|pending| {
            pending.target.variant == target.variant && pending.target.number == target.number
        })
    }

    /// A call reloads an evicted or failed instance with that instance's settings. A requested instance stays requested,
    /// whatever happened to its process.
    pub(super) fn or_evicted(
        &self,
        id: Uuid,
        target: Target,
        origin: Origin,
    ) -> (Uuid, Target, Origin) {
        match self.same_as(&target) {
            Some(found)
                if !found.holds_memory()
                    && (found.state == InstanceState::Evicted
                        || found.origin == Origin::Requested)
                    && origin == Origin::OnDemand =>
            {
                (found.id, found.target.clone(), found.origin)
            }
            _ => (id, target, origin),
        }
    }

    /// Whether the load of a call will fit once others are unloaded; evicts the least valuable ones.
    ///
    /// # Errors
    /// The refusal, in the form that callers get.
    fn evict_for(&mut self, pending: &mut Pending, refusal: &Problem) -> Result<bool, Problem> {
        let Pending { id, target, origin, .. } = &*pending;
        let (_, wanted, _) = self.or_evicted(*id, target.clone(), *origin);
        let title = wanted.title();
        match self.room_for(&wanted) {
            Room::By(gone) => {
                for id in gone {
                    self.leave(id, &format!("evicted for a call of `{title}`"), true);
                }
                Ok(true)
            }
            Room::AfterCalls(busy) => {
                if pending.since.elapsed() >= self.evict_busy_after {
                    let is_new = !std::mem::replace(&mut pending.made_way, true);
                    self.give_way(&busy, &title, is_new);
                }
                if !std::mem::replace(&mut pending.is_announced, true) {
                    let why = format!(
                        "{}; the call waits until other calls have finished",
                        refusal.detail
                    );
                    self.decisions.note(What::Wait, &title, why);
                }
                Ok(true)
            }
            Room::None => {
                self.decisions.note(What::Refuse, &title, &refusal.detail);
                let everybody: Vec<Uuid> = self.instances.keys().copied().collect();
                let alone = self.ledger.evictions(wanted.candidate(&title), &everybody).is_some();
                if alone { Err(refusals::no_room_for_call(refusal, None)) } else { Ok(false) }
            }
        }
    }

    fn room_for(&self, wanted: &Target) -> Room {
        let title = wanted.title();
        let wanted = wanted.candidate(&title);
        let draining =
            self.instances.values().filter(|found| found.state == InstanceState::Draining);
        let mut order: Vec<Uuid> = draining.map(|found| found.id).collect();
        let leaving = order.len();
        order.extend(least_valuable_first(self.unused()));
        // Those that are being unloaded already need no eviction.
        let evictions = |order: &[Uuid]| {
            let mut gone = self.ledger.evictions(wanted, order)?;
            gone.retain(|id| !order[..leaving].contains(id));
            Some(gone)
        };
        if let Some(gone) = evictions(&order) {
            return Room::By(gone);
        }
        let busy = self.instances.values().filter(|found| self.may_go(found) && !found.is_idle());
        order.extend(busy.map(|found| found.id));
        evictions(&order).map_or(Room::None, Room::AfterCalls)
    }

    /// Stops instances that are never idle from taking more calls, so that a call that has waited long for their memory
    /// is served. Calls that wait for them are served after their reload.
    fn give_way(&mut self, busy: &[Uuid], title: &str, is_new: bool) {
        for id in busy {
            let Some(instance) = self.instances.get_mut(id) else { continue };
            instance.takes_no_calls = true;
            if is_new {
                let why = format!(
                    "it takes no more calls, because a call of `{title}` waits for its memory"
                );
                self.decisions.note(What::Drain, &instance.target.title(), why);
            }
        }
    }

    /// Whether an instance may be evicted for a call once it is idle.
    fn may_go(&self, instance: &Instance) -> bool {
        let allowed = match self.evictable {
            Evictable::None => false,
            Evictable::OnDemand => instance.origin == Origin::OnDemand,
            Evictable::Any => true,
        };
        allowed && !instance.target.policy.pinned && instance.holds_memory()
    }

    /// Idle instances that may be evicted for a call.
    fn unused(&self) -> Vec<Unused<Uuid>> {
        self.instances
            .values()
            .filter(|found| found.is_idle() && self.may_go(found))
            .map(|found| Unused {
                id: found.id,
                importance: found.target.policy.importance,
                idle: found.idle_time(),
                frees: found.grant.demand.total(),
                reload: Duration::from_secs_f64(found.load_seconds.unwrap_or(0.0)),
            })
            .collect()
    }

    /// Drains an instance that is loaded with other settings, if the new settings will fit afterwards.
    fn replace(&mut self, target: &Target) -> Result<(), Problem> {
        let Some(old) = self.same_as(target).map(|found| found.id) else {
            return Ok(());
        };
        let title = target.title();
        let mut after = self.ledger.clone();
        after.release(old);
        let mut idle = self.idle();
        idle.remove(&old);
        after
            .judge(target.candidate(&title), &idle)
            .map_err(|denial| refusals::denial(&denial, &target.shape))?;
        self.decisions.note(What::Replace, &title, "drained, to be loaded with other settings");
        self.end(old, Unload::Drain);
        Ok(())
    }

    /// Unloads an idle instance. A requested one stays listed, as evicted.
    fn leave(&mut self, id: Uuid, why: &str, comes_back: bool) {
        let Some(instance) = self.instances.get_mut(&id) else {
            return;
        };
        let is_requested = instance.origin == Origin::Requested;
        let reasons = format!(
            "{why} (idle for {} s, importance {}, {})",
            instance.idle_time().as_secs(),
            instance.target.policy.importance,
            if is_requested { "requested" } else { "on demand" },
        );
        let what = if is_requested { What::Evict } else { What::Unload };
        self.decisions.note(what, &instance.target.title(), reasons);
        if is_requested {
            instance.leaving = Leaving::Evicted { why: why.to_owned(), comes_back };
        }
        // Calls for it are not refused meanwhile: it is reloaded for them.
        let (variant, target) = (instance.target.variant, instance.target.clone());
        self.queues.entry(variant).or_default().reload = Some(target);
        self.end(id, Unload::Drain);
    }

    /// Unloads instances whose idle limit has passed.
    pub(super) fn end_the_idle(&mut self) {
        let due: Vec<(Uuid, String)> = self
            .instances
            .values()
            .filter_map(|instance| Some((instance.id, instance.is_due()?)))
            .collect();
        for (id, why) in due {
            self.leave(id, &format!("{why}; a call reloads it"), false);
        }
    }

    /// Reloads evicted instances for which there is memory now, the most important first.
    pub(super) fn bring_back(&mut self) {
        if self.stopping || !self.pending.is_empty() {
            return;
        }
        let mut evicted: Vec<_> = self
            .instances
            .values()
            .filter(|found| found.comes_back())
            .map(|found| (Reverse(found.target.policy.importance), found.id))
            .collect();
        evicted.sort_unstable();
        for (_, id) in evicted {
            let idle = self.idle();
            let Some(instance) = self.instances.get_mut(&id) else {
                continue;
            };
            let title = instance.target.title();
            if let Ok(grant) = self.ledger.reserve(id, instance.target.candidate(&title), &idle) {
                let reasons = wire::reasons(&grant, instance.origin);
                self.decisions.note(
                    What::Reload,
                    &title,
                    format!("memory is free again; {reasons}"),
                );
                instance.return_with(grant);
                self.start(id);
            }
        }
    }
}
