//! The task that owns the fleet.

use std::collections::{BTreeMap, BTreeSet};
use std::time::{Duration, Instant};

use deft_engine::baton::Board;
use deft_planning::{Bytes, Ledger};
use deft_protocol::Problem;
use deft_protocol::manage::{InstanceState, Origin, Pool};
use tokio::sync::{mpsc, oneshot, watch};
use uuid::Uuid;

use super::Rules;
use super::decisions::{Decisions, What};
use super::engine_link::EngineProcess;
use super::instance::{Instance, Leaving};
use super::memory::{self, Measured};
use super::pools::Machine;
use super::queue::{CallQueue, Left};
use super::room::Pending;
use super::{Ask, FleetReport, Judged, Target, Unload};
use crate::config::Evictable;
use crate::{loading::refusals, wire};

/// How often memory is measured.
const MEASURE_EVERY: Duration = Duration::from_secs(1);

pub(super) struct Actor {
    pub(super) ledger: Ledger<Uuid>,
    pub(super) instances: BTreeMap<Uuid, Instance>,
    /// Loads that wait for others to go.
    pub(super) pending: Vec<Pending>,
    /// Calls that wait, by variant.
    pub(super) queues: BTreeMap<Uuid, CallQueue>,
    /// Calls that may wait for each instance.
    pub(super) queue: usize,
    pub(super) begun: Instant,
    pub(super) hang: Duration,
    /// After so long a call that waits for room has its turn.
    pub(super) evict_busy_after: Duration,
    pub(super) evictable: Evictable,
    pub(super) machine: Machine,
    pub(super) decisions: Decisions,
    /// Where engine processes pass the permission to compute on.
    pub(super) board: Option<Board>,
    pub(super) asks: mpsc::Sender<Ask>,
    /// Given to seats, which report when they are returned.
    pub(super) leaving: mpsc::UnboundedSender<Left>,
    publish: watch::Sender<FleetReport>,
    drained: Vec<oneshot::Sender<()>>,
    pub(super) stopping: bool,
    measuring: bool,
}

/// Without it, all engines compute at the same time, and slowly.
fn board() -> Option<Board> {
    Board::create()
        .inspect_err(|error| tracing::error!("engines cannot share the processor fairly: {error}"))
        .ok()
}

impl Actor {
    pub(super) fn new(
        machine: Machine,
        rules: Rules,
        asks: mpsc::Sender<Ask>,
        leaving: mpsc::UnboundedSender<Left>,
        publish: watch::Sender<FleetReport>,
    ) -> Self {
        Self {
            ledger: machine.ledger(),
            machine,
            decisions: Decisions::default(),
            board: board(),
            instances: BTreeMap::new(),
            pending: Vec::new(),
            queues: BTreeMap::new(),
            queue: rules.queue,
            begun: Instant::now(),
            hang: rules.hang,
            evict_busy_after: rules.evict_busy_after,
            evictable: rules.evictable,
            asks,
            leaving,
            publish,
            drained: Vec::new(),
            stopping: false,
            measuring: false,
        }
    }

    pub(super) async fn run(
        mut self,
        mut questions: mpsc::Receiver<Ask>,
        mut left: mpsc::UnboundedReceiver<Left>,
    ) {
        let mut clock = tokio::time::interval(MEASURE_EVERY);
        loop {
            self.publish();
            let ask = tokio::select! {
                ask = questions.recv() => ask,
                Some(left) = left.recv() => {
                    self.left(&left);
                    // Before idle instances are searched, so that one with a waiting call is not unloaded.
                    self.serve_all();
                    Some(Ask::CallEnded)
                }
                _ = clock.tick() => Some(Ask::Refresh),
            };
            match ask {
                Some(ask) => self.take(ask),
                None => return,
            }
            self.serve_all();
            if self.stopping && self.instances.is_empty() {
                self.drained.drain(..).for_each(|answer| {
                    let _ = answer.send(());
                });
            }
        }
    }

    fn take(&mut self, ask: Ask) {
        match ask {
            Ask::Judge { targets, answer } => drop(answer.send(self.judge(&targets))),
            Ask::Load { id, target, origin, answer } => {
                self.load_or_wait(Pending::new(id, *target, origin, answer));
            }
            Ask::ShowFailed { id, target, problem } => self.show_failed(id, *target, &problem),
            Ask::Seat { variant, asker, answer } => {
                drop(answer.send(self.seat(variant, asker)));
            }
            Ask::Ready { id, answer } => drop(answer.send(self.ready(id))),
            Ask::Unload { id, how, gone, answer } => {
                drop(answer.send(self.unload(id, how, gone)));
            }
            Ask::Started { id, result } => self.started(id, result),
            Ask::Process { id, event } => self.process(id, event),
            Ask::Restart { id } => self.restart(id),
            Ask::Measured(all) => self.measured(all),
            Ask::Limit { pool, limit, answer } => {
                drop(answer.send(self.limit(&pool, &limit)));
            }
            Ask::Blame { id, caller, call } => self.blame(id, &caller, call),
            Ask::CallEnded => {
                self.drain_the_free();
                self.end_the_idle();
                self.retry_pending();
            }
            Ask::Refresh => {
                self.look_at_baton_times();
                self.end_the_hung();
                self.drain_the_free();
                self.end_the_idle();
                self.retry_pending();
                self.bring_back();
                self.measure();
            }
            Ask::DrainAll { answer } => self.drain_all(answer),
            Ask::KillAll => {
                self.instances
                    .values()
                    .filter_map(|i| i.process.as_ref())
                    .for_each(EngineProcess::kill);
            }
        }
    }

    pub(super) fn idle(&self) -> BTreeSet<Uuid> {
        self.instances
            .values()
            .filter(|instance| instance.is_idle())
            .map(|found| found.id)
            .collect()
    }

    fn judge(&self, targets: &[Target]) -> Result<Judged, Problem> {
        let idle = self.idle();
        let mut ledger = self.ledger.clone();
        let mut verdicts = Vec::new();
        for target in targets {
            let title = target.title();
            let wanted = target.candidate(&title);
            let plan = ledger.plan(wanted).map_err(|error| refusals::places(&error))?;
            verdicts.push(match ledger.reserve(Uuid::now_v7(), wanted, &idle) {
                Ok(grant) => (grant, None),
                Err(denial) => (plan, Some(refusals::denial(&denial, &target.shape))),
            });
        }
        Ok(Judged { verdicts, before: self.ledger.reports(), after: ledger.reports() })
    }

    fn limit(&mut self, pool: &str, text: &str) -> Result<Pool, Problem> {
        let unknown = |error| refusals::no_such_pool(&error);
        self.ledger.report(pool).map_err(unknown)?;
        let limit = self.machine.limit(pool, text).map_err(|error| refusals::limit(&error))?;
        let before = self.ledger.set_limit(pool, limit).map_err(unknown)?;
        let excess = self.ledger.report(pool).map_err(unknown)?.reserved.saturating_sub(limit);
        let mut why = format!("its limit is now {limit} instead of {before}");
        if excess > Bytes(0) {
            why += &format!(
                "; {excess} more are reserved already: no model is unloaded for that, and none is loaded until \
                 enough memory is free"
            );
        }
        self.decisions.note(What::Limit, pool, why);
        self.retry_pending();
        let pools = self.machine.report(&self.ledger, self.instances.values());
        pools.into_iter().find(|found| found.name == pool).ok_or_else(refusals::stopping)
    }

    pub(super) fn load(
        &mut self,
        id: Uuid,
        target: Target,
        origin: Origin,
    ) -> Result<Uuid, Problem> {
        if self.stopping {
            return Err(refusals::stopping());
        }
        let (id, target, origin) = self.or_evicted(id, target, origin);
        let there = self.same_as(&target).map(|found| (found.id, found.state));
        let replaced = match there {
            Some((found, InstanceState::Failed | InstanceState::Evicted)) => Some(found),
            Some((found, _)) => return self.join(found, &target, origin),
            None => None,
        };
        let title = target.title();
        let idle = self.idle();
        let grant = self
            .ledger
            .reserve(id, target.candidate(&title), &idle)
            .map_err(|denial| refusals::denial(&denial, &target.shape))?;
        self.decisions.note(What::Load, &title, wire::reasons(&grant, origin));
        if let Some(replaced) = replaced {
            self.instances.remove(&replaced);
        }
        self.instances.insert(id, Instance::new(id, target, origin, grant, self.leaving.clone()));
        self.start(id);
        Ok(id)
    }

    /// The instance of a target, if it exists.
    pub(super) fn same_as(&self, target: &Target) -> Option<&Instance> {
        let is_it = |found: &&Instance| {
            found.target.variant == target.variant && found.target.number == target.number
        };
        self.instances.values().find(is_it)
    }

    /// A load of a variant that has an instance already.
    fn join(&mut self, id: Uuid, target: &Target, origin: Origin) -> Result<Uuid, Problem> {
        let instance = self.instances.get_mut(&id).expect("looked up by the caller");
        if instance.state == InstanceState::Draining {
            return Err(refusals::draining(&target.title()));
        }
        if origin == Origin::Requested {
            if !instance.target.is_loaded_as(target) {
                return Err(refusals::loaded_otherwise(&target.title()));
            }
            instance.origin = Origin::Requested;
            instance.target.policy = target.policy;
            if let (Some(board), Some(process)) = (&self.board, &instance.process) {
                board.set_share(process.pid, target.policy.share);
            }
        }
        Ok(id)
    }

    fn show_failed(&mut self, id: Uuid, target: Target, problem: &Problem) {
        let grant = target.in_host();
        self.decisions.note(What::Fail, &target.title(), &problem.detail);
        let mut instance =
            Instance::new(id, target, Origin::Requested, grant, self.leaving.clone());
        if problem.code == refusals::DOES_NOT_FIT {
            instance.wait_for_room(problem);
        } else {
            instance.fail(problem);
        }
        self.instances.insert(id, instance);
    }

    fn unload(&mut self, id: Uuid, how: Unload, gone: oneshot::Sender<()>) -> Result<(), Problem> {
        let Some(instance) = self.instances.get_mut(&id) else {
            return Err(refusals::no_instance(id));
        };
        instance.gone.push(gone);
        instance.leaving = Leaving::Gone;
        if let Some(queue) = self.queues.get_mut(&instance.target.variant) {
            queue.reload = None;
        }
        self.end(id, how);
        Ok(())
    }

    pub(super) fn end(&mut self, id: Uuid, how: Unload) {
        let Some(instance) = self.instances.get_mut(&id) else {
            return;
        };
        let starting = instance.state == InstanceState::Loading;
        if instance.process.is_none() && !starting {
            self.remove(id);
            return;
        }
        instance.state = InstanceState::Draining;
        instance.waiting.clear();
        if how == Unload::Now || starting {
            instance.process.iter().for_each(EngineProcess::kill);
        }
        self.drain_the_free();
    }

    /// Ends draining engine processes as soon as no call has a seat there: a call may have its
    /// seat and not have sent its order yet.
    pub(super) fn drain_the_free(&self) {
        let draining = self.instances.values().filter(|found| found.is_free_to_drain());
        draining
            .filter_map(|found| found.process.as_ref())
            .for_each(|process| process.link.drain());
    }

    fn drain_all(&mut self, answer: oneshot::Sender<()>) {
        self.stopping = true;
        self.drained.push(answer);
        self.pending.clear();
        let all: Vec<Uuid> = self.instances.keys().copied().collect();
        self.instances.values_mut().for_each(|instance| instance.leaving = Leaving::Gone);
        all.into_iter().for_each(|id| self.end(id, Unload::Drain));
    }

    /// Measures all engine processes, off this task: the kernel walks page tables for it.
    pub(super) fn measure(&mut self) {
        let running: Vec<_> = self
            .instances
            .values()
            .filter_map(|found| {
                Some((found.id, found.process.as_ref()?.pid, found.target.files.clone()))
            })
            .collect();
        if self.measuring || running.is_empty() {
            return;
        }
        self.measuring = true;
        let asks = self.asks.clone();
        tokio::task::spawn_blocking(move || {
            let measured = running
                .into_iter()
                .filter_map(|(id, pid, files)| Some((id, memory::of_process(pid, &files)?)))
                .collect();
            let _ = asks.blocking_send(Ask::Measured(measured));
        });
    }

    fn measured(&mut self, all: Vec<(Uuid, Measured)>) {
        self.measuring = false;
        for (id, measured) in all {
            if let Some(instance) = self.instances.get_mut(&id)
                && instance.state == InstanceState::Ready
            {
                instance.measured = Some(measured);
            }
        }
    }

    fn publish(&self) {
        let report = FleetReport {
            instances: self
                .instances
                .values()
                .map(|found| found.report(self.queued(found.target.variant)))
                .collect(),
            pools: self.machine.report(&self.ledger, self.instances.values()),
            decisions: self.decisions.latest(),
        };
        self.publish.send_if_modified(|current| {
            let changed = *current != report;
            *current = report;
            changed
        });
    }
}
