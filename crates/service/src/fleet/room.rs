//! Making room, and coming back: what is done when memory is short or nobody calls.
//!
//! A call may displace what nobody uses; what the operator keeps comes back when there is room. A
//! running call is never disturbed, and nothing that comes back displaces anything.

use std::cmp::Reverse;
use std::time::Duration;

use deft_planning::{Unused, least_valuable_first};
use deft_protocol::Problem;
use deft_protocol::manage::{InstanceState, Keeping};
use tokio::sync::oneshot;
use uuid::Uuid;

use super::actor::Actor;
use super::instance::Leaving;
use super::{Target, Unload};
use crate::config::MakeRoom;

/// Code of a load that does not fit.
const DOES_NOT_FIT: &str = "does_not_fit";
/// Code of a load of what is there with other settings.
pub(super) const LOADED_OTHERWISE: &str = "loaded_otherwise";

/// A load that waits for others to go.
pub(super) struct Pending {
    pub(super) id: Uuid,
    pub(super) target: Target,
    pub(super) keeping: Keeping,
    pub(super) answer: oneshot::Sender<Result<Uuid, Problem>>,
}

impl Actor {
    /// Loads; where others go first, the answer comes when they are gone.
    pub(super) fn load_or_wait(&mut self, pending: Pending) {
        let Pending { id, target, keeping, answer } = pending;
        let result = self.load(id, target.clone(), keeping);
        let waits = match &result {
            Err(problem) if problem.code == DOES_NOT_FIT && keeping == Keeping::OnDemand => {
                let (_, wanted, _) = self.or_displaced(id, target.clone(), keeping);
                self.make_room_for(&wanted)
            }
            Err(problem) if problem.code == LOADED_OTHERWISE => match self.replace(&target) {
                Ok(()) => true,
                Err(refusal) => return drop(answer.send(Err(refusal))),
            },
            _ => false,
        };
        if waits {
            self.pending.push(Pending { id, target, keeping, answer });
            self.drain_the_free();
        } else {
            drop(answer.send(result));
        }
    }

    /// Tries again what waited. Whoever does not wait any more is forgotten.
    pub(super) fn retry_pending(&mut self) {
        for pending in std::mem::take(&mut self.pending) {
            if !pending.answer.is_closed() {
                self.load_or_wait(pending);
            }
        }
    }

    /// A call for something displaced brings that back, as it was kept.
    pub(super) fn or_displaced(
        &self,
        id: Uuid,
        target: Target,
        keeping: Keeping,
    ) -> (Uuid, Target, Keeping) {
        match self.of_variant(target.variant) {
            Some(found)
                if found.state == InstanceState::Displaced && keeping == Keeping::OnDemand =>
            {
                (found.id, found.target.clone(), found.keeping)
            }
            _ => (id, target, keeping),
        }
    }

    /// Whether a call's load will fit when what is least valuable has gone; tells those to go.
    fn make_room_for(&mut self, target: &Target) -> bool {
        let name = target.name.to_string();
        let draining =
            self.instances.values().filter(|found| found.state == InstanceState::Draining);
        let mut order: Vec<Uuid> = draining.map(|found| found.id).collect();
        let leaving = order.len();
        order.extend(least_valuable_first(self.unused()));
        let Some(gone) = self.ledger.make_room(target.candidate(&name), &order) else {
            return false;
        };
        for &id in gone.iter().filter(|id| !order[..leaving].contains(id)) {
            self.leave(id, &format!("it made room for a call of `{name}`"), true);
        }
        true
    }

    /// What nobody uses and may be unloaded for a call.
    fn unused(&self) -> Vec<Unused<Uuid>> {
        let may_go = |keeping: Keeping| match self.make_room {
            MakeRoom::Never => false,
            MakeRoom::OnDemand => keeping == Keeping::OnDemand,
            MakeRoom::Kept => true,
        };
        self.instances
            .values()
            .filter(|found| found.is_idle() && !found.target.policy.pinned && may_go(found.keeping))
            .map(|found| Unused {
                id: found.id,
                priority: found.target.policy.priority,
                idle: found.idle_time(),
                frees: found.demand.total(),
                reload: Duration::from_secs_f64(found.load_seconds.unwrap_or(0.0)),
            })
            .collect()
    }

    /// Drains what is loaded with other settings, once it is sure that the new ones would fit then.
    fn replace(&mut self, target: &Target) -> Result<(), Problem> {
        let Some(old) = self.of_variant(target.variant).map(|found| found.id) else {
            return Ok(());
        };
        let name = target.name.to_string();
        let mut after = self.ledger.clone();
        after.release(old);
        let mut idle = self.idle();
        idle.remove(&old);
        after
            .judge(target.candidate(&name), &idle)
            .map_err(|refusal| crate::wire::refusal(&refusal, &target.shape))?;
        tracing::info!("`{name}` is drained, to be loaded with other settings");
        self.end(old, Unload::Drain);
        Ok(())
    }

    /// Unloads what nobody uses: what is kept stays in sight as displaced.
    fn leave(&mut self, id: Uuid, why: &str, comes_back: bool) {
        let Some(instance) = self.instances.get_mut(&id) else {
            return;
        };
        tracing::info!(
            "`{}` is unloaded: {why} (idle for {} s, priority {}, {})",
            instance.target.name,
            instance.idle_time().as_secs(),
            instance.target.policy.priority,
            if instance.keeping == Keeping::Kept { "kept" } else { "on demand" },
        );
        if instance.keeping == Keeping::Kept {
            instance.leaving = Leaving::Displaced { why: why.to_owned(), comes_back };
        }
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
            self.leave(id, &format!("{why}; a call brings it back"), false);
        }
    }

    /// Brings back what made room, the most important first, as far as there is room now.
    pub(super) fn bring_back(&mut self) {
        if self.stopping || !self.pending.is_empty() {
            return;
        }
        let mut displaced: Vec<_> = self
            .instances
            .values()
            .filter(|found| found.comes_back())
            .map(|found| (Reverse(found.target.policy.priority), found.id))
            .collect();
        displaced.sort_unstable();
        for (_, id) in displaced {
            let idle = self.idle();
            let Some(instance) = self.instances.get_mut(&id) else {
                continue;
            };
            let name = instance.target.name.to_string();
            if let Ok(demand) = self.ledger.reserve(id, instance.target.candidate(&name), &idle) {
                tracing::info!("`{name}` comes back: there is room again");
                instance.return_with(demand);
                self.start(id);
            }
        }
    }
}
