//! Making room, and coming back: what is done when memory is short or nobody calls.
//!
//! A call may evict what nobody uses; what the operator keeps comes back when there is room. A
//! running call is never disturbed, and nothing that comes back evicts anything.

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

/// A load that waits for others to go.
pub(super) struct Pending {
    id: Uuid,
    target: Target,
    origin: Origin,
    answer: oneshot::Sender<Result<Uuid, Problem>>,
    since: Instant,
    /// Whether it was told that it waits.
    told: bool,
    /// Whether it was told that others take no more calls for its sake.
    made_way: bool,
}

impl Pending {
    pub(super) fn new(
        id: Uuid,
        target: Target,
        origin: Origin,
        answer: oneshot::Sender<Result<Uuid, Problem>>,
    ) -> Self {
        Self { id, target, origin, answer, since: Instant::now(), told: false, made_way: false }
    }

    /// Whether both are calls for one model.
    fn is_same(&self, other: &Self) -> bool {
        self.origin == Origin::OnDemand
            && other.origin == Origin::OnDemand
            && self.target.variant == other.target.variant
            && self.target.number == other.target.number
    }
}

/// How room can be made for a call.
enum Room {
    /// These go, and some that are going already.
    By(Vec<Uuid>),
    /// It will do when calls that run now at these have ended.
    AfterCalls(Vec<Uuid>),
    None,
}

impl Actor {
    /// Loads; where others go first, the answer comes when they are gone.
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
            // What is being unloaded is loaded again when it has gone.
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

    /// Whether as many calls wait for room for a model as may wait for its lanes.
    fn too_many_wait(&self, pending: &Pending) -> bool {
        let same = |other: &&Pending| other.is_same(pending) && !other.answer.is_closed();
        pending.origin == Origin::OnDemand
            && self.pending.iter().filter(same).count() >= self.queue.max(1)
    }

    /// Tries again what waited. Whoever does not wait any more is forgotten. Of many calls for one model only
    /// the first is planned for: what it waits for the others wait for too.
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

    /// Whether something is to be loaded in the place of an instance that goes.
    pub(super) fn is_replaced(&self, target: &Target) -> bool {
        self.pending.iter().any(|pending| {
            pending.target.variant == target.variant && pending.target.number == target.number
        })
    }

    /// A call reloads an instance that was evicted or failed with its own settings: what the operator requested stays
    /// requested, whatever happened to its process.
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

    /// Whether a call's load will fit when others have gone: what is least valuable is told to.
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
                if !std::mem::replace(&mut pending.told, true) {
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
        // What is going already need not be told to.
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

    /// Instances that always have something to do take no more calls, so that a call that waited long for
    /// their room has its turn. Who waits for them is served when they come back.
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

    /// Whether an instance may be unloaded for a call, when nobody uses it.
    fn may_go(&self, instance: &Instance) -> bool {
        let allowed = match self.evictable {
            Evictable::None => false,
            Evictable::OnDemand => instance.origin == Origin::OnDemand,
            Evictable::Any => true,
        };
        allowed && !instance.target.policy.pinned && instance.holds_memory()
    }

    /// What nobody uses and may be unloaded for a call.
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

    /// Drains what is loaded with other settings, once it is sure that the new ones would fit then.
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

    /// Unloads what nobody uses: what is kept stays in sight as evicted.
    fn leave(&mut self, id: Uuid, why: &str, comes_back: bool) {
        let Some(instance) = self.instances.get_mut(&id) else {
            return;
        };
        let kept = instance.origin == Origin::Requested;
        let reasons = format!(
            "{why} (idle for {} s, importance {}, {})",
            instance.idle_time().as_secs(),
            instance.target.policy.importance,
            if kept { "kept" } else { "on demand" },
        );
        let what = if kept { What::Evict } else { What::Unload };
        self.decisions.note(what, &instance.target.title(), reasons);
        if kept {
            instance.leaving = Leaving::Evicted { why: why.to_owned(), comes_back };
        }
        // Calls that come for it now are not refused: it is loaded again for them.
        let (variant, target) = (instance.target.variant, instance.target.clone());
        self.queues.entry(variant).or_default().reload = Some(target);
        self.end(id, Unload::Drain);
    }

    /// Unloads what had no call for as long as its idle limit says.
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

    /// Brings back what made room, the most important first, as far as there is room now.
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
