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
use super::engine_link::{EngineProcess, ProcessEvent};
use super::instance::{AfterCrash, Instance, Leaving};
use super::memory::{self, Measured};
use super::pools::Machine;
use super::queue::{CallQueue, Left};
use super::room::Pending;
use super::{Ask, FleetReport, Judged, Target, Unload};
use crate::config::Evictable;
use crate::{loading::refusals, process::descriptors, wire};

/// When it is tried again to start a process, where too many files were open.
const FILES_AGAIN: Duration = Duration::from_secs(2);
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
    hang: Duration,
    /// After so long a call that waits for room has its turn.
    pub(super) evict_busy_after: Duration,
    pub(super) evictable: Evictable,
    pub(super) machine: Machine,
    pub(super) decisions: Decisions,
    /// Where engine processes pass the permission to compute on.
    board: Option<Board>,
    asks: mpsc::Sender<Ask>,
    /// Given to seats, which tell when they are given back.
    pub(super) leaving: mpsc::UnboundedSender<Left>,
    publish: watch::Sender<FleetReport>,
    drained: Vec<oneshot::Sender<()>>,
    pub(super) stopping: bool,
    measuring: bool,
}

/// Without it everybody computes at the same time, and slowly.
fn board() -> Option<Board> {
    Board::create()
        .inspect_err(|error| tracing::error!("engines cannot share the processor fairly: {error}"))
        .ok()
}

/// How a process ended, with what that often means.
fn explained(how: &str) -> String {
    if how.contains("SIGKILL") {
        format!("{how}: killed by a user, or by the system when out of memory")
    } else {
        how.to_owned()
    }
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
                    // Before anybody looks for what is idle: who waits for it is not passed over.
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

    /// The instance that a target means, where it is there.
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

    pub(super) fn start(&self, id: Uuid) {
        let instance = &self.instances[&id];
        let others = self.instances.values().filter(|found| found.id != id && found.holds_memory());
        let places = self.machine.places(&instance.grant, others.map(|found| &found.grant));
        let board = self.board.clone();
        let order = instance.order(places, &self.machine.computing, board.as_ref());
        let asks = self.asks.clone();
        tokio::spawn(async move {
            let (tell, mut events) = mpsc::unbounded_channel();
            let result = EngineProcess::start(order, board, tell).await;
            let started = result.is_ok();
            let _ = asks.send(Ask::Started { id, result }).await;
            while let Some(event) = events.recv().await.filter(|_| started) {
                let _ = asks.send(Ask::Process { id, event }).await;
            }
        });
    }

    fn started(&mut self, id: Uuid, result: std::io::Result<EngineProcess>) {
        let Some(instance) = self.instances.get_mut(&id) else {
            // Unloaded before it began.
            result.iter().for_each(EngineProcess::kill);
            return;
        };
        match result {
            Ok(process) if instance.state == InstanceState::Draining => {
                process.kill();
                instance.process = Some(process);
            }
            Ok(process) => instance.process = Some(process),
            Err(error) if descriptors::are_exhausted(&error) => self.no_descriptors(id),
            Err(error) => self.ended(id, &format!("it could not be started: {error}")),
        }
    }

    /// No more files may be open: that is no crash, and passes when connections close.
    fn no_descriptors(&mut self, id: Uuid) {
        let Some(instance) = self.instances.get_mut(&id) else {
            return;
        };
        let title = instance.target.title();
        if instance.state == InstanceState::Draining {
            self.remove(id);
            return;
        }
        let why = "no engine process can be started: too many files and connections are open";
        instance.wait_for_files(why);
        self.decisions.note(What::Restart, &title, why);
        self.load_again_after(id, FILES_AGAIN);
    }

    fn load_again_after(&self, id: Uuid, pause: Duration) {
        let asks = self.asks.clone();
        tokio::spawn(async move {
            tokio::time::sleep(pause).await;
            let _ = asks.send(Ask::Restart { id }).await;
        });
    }

    fn process(&mut self, id: Uuid, event: ProcessEvent) {
        let Some(instance) = self.instances.get_mut(&id) else {
            return;
        };
        match event {
            ProcessEvent::Loading { share } => instance.load_share = Some(share),
            ProcessEvent::Loaded { kernels, seconds, warnings, confined } => {
                if instance.state == InstanceState::Loading {
                    let title = instance.target.title();
                    tracing::info!(
                        "`{title}` is ready after {seconds:.3} s; confined to: {confined}"
                    );
                    instance.become_ready(kernels, seconds, &warnings);
                    if let Some(queue) = self.queues.get_mut(&instance.target.variant) {
                        queue.reload = None;
                    }
                    self.measure();
                }
            }
            ProcessEvent::LoadFailed(problem) => {
                self.decisions.note(What::Refuse, &instance.target.title(), &problem.detail);
                instance.fail(&problem);
                self.ledger.release(id);
            }
            ProcessEvent::Standing(standing) => instance.standing = Some(standing),
            ProcessEvent::Exited { how } => self.ended(id, &how),
        }
    }

    fn look_at_baton_times(&mut self) {
        let Some(board) = &self.board else { return };
        for instance in self.instances.values_mut() {
            let baton_times =
                instance.process.as_ref().and_then(|process| board.times(process.pid));
            instance.baton_times = baton_times.unwrap_or_default();
        }
    }

    /// Ends processes that have calls and compute nothing. Whoever waits for its turn is excused: it may
    /// be waiting for one of them.
    fn end_the_hung(&mut self) {
        let (hang, board) = (self.hang, self.board.as_ref());
        let mut is_ended = false;
        for instance in self.instances.values_mut() {
            let Some(process) = &instance.process else { continue };
            let waits = board.is_some_and(|board| board.is_waiting(process.pid));
            if process.link.silence() < hang || waits {
                continue;
            }
            is_ended = true;
            let why = format!("it had calls but computed nothing for {} s", hang.as_secs());
            tracing::error!("`{}` hangs: {why}; its process is killed", instance.target.title());
            instance.why_ended = Some(why);
            process.kill();
        }
        if is_ended {
            // The others may have waited for it.
            self.instances
                .values()
                .filter_map(|found| found.process.as_ref())
                .for_each(|process| process.link.excuse());
        }
    }

    /// An engine process ended: asked to, or not.
    fn ended(&mut self, id: Uuid, how: &str) {
        let Some(instance) = self.instances.get_mut(&id) else {
            return;
        };
        let title = instance.target.title();
        let how = &instance.why_ended.take().unwrap_or_else(|| explained(how));
        match instance.state {
            InstanceState::Draining => {
                tracing::info!("unloaded `{title}`");
                self.remove(id);
            }
            InstanceState::Failed => {
                instance.process = None;
                instance.measured = None;
                if instance.origin == Origin::OnDemand {
                    self.remove(id);
                }
            }
            _ => match instance.crashed(how) {
                AfterCrash::RestartAfter(pause) => {
                    let why = format!("its engine process ended ({how}); restarting in {pause:?}");
                    self.decisions.note(What::Restart, &title, why);
                    self.load_again_after(id, pause);
                }
                AfterCrash::GiveUp => {
                    let problem = refusals::crashes(how, &wire::command_of(&instance.target));
                    self.decisions.note(What::Fail, &title, &problem.detail);
                    instance.fail(&problem);
                    self.ledger.release(id);
                }
            },
        }
    }

    /// Two processes ended by one call: it is refused, and the instance is not to blame.
    fn blame(&mut self, id: Uuid, caller: &str, call: Uuid) {
        let Some(instance) = self.instances.get_mut(&id) else {
            return;
        };
        instance.forgive(2);
        let title = instance.target.title();
        let why = format!("call {call} of {caller} ended its engine process twice and is refused");
        self.decisions.note(What::Refuse, &title, why);
    }

    fn remove(&mut self, id: Uuid) {
        self.ledger.release(id);
        let target = self.instances.get(&id).map(|instance| instance.target.clone());
        let waiting =
            self.instances.get_mut(&id).map(|instance| std::mem::take(&mut instance.waiting));
        let evicted = self.instances.get_mut(&id).is_some_and(|instance| {
            instance.state == InstanceState::Draining && instance.become_evicted()
        });
        let gone = if evicted {
            self.instances.get_mut(&id).map(|instance| std::mem::take(&mut instance.gone))
        } else {
            self.instances.remove(&id).map(|instance| instance.gone)
        };
        gone.into_iter().flatten().for_each(|gone| {
            let _ = gone.send(());
        });
        self.retry_pending();
        // Whoever waited for it waits for what is loaded in its place.
        let next = target.and_then(|target| self.same_as(&target).map(|found| found.id));
        if let Some(next) = next.and_then(|id| self.instances.get_mut(&id))
            && next.state == InstanceState::Loading
        {
            next.waiting.extend(waiting.into_iter().flatten());
        }
    }

    fn restart(&mut self, id: Uuid) {
        let Some(instance) = self.instances.get_mut(&id) else {
            return;
        };
        if instance.state == InstanceState::Restarting {
            instance.state = InstanceState::Loading;
            self.start(id);
        }
    }

    /// Whoever waits until an instance is ready is told; none where nothing is being loaded.
    fn ready(&mut self, id: Uuid) -> Option<oneshot::Receiver<Result<(), Problem>>> {
        let is_replaced =
            self.instances.get(&id).is_some_and(|found| self.is_replaced(&found.target));
        let instance = self.instances.get_mut(&id)?;
        if instance.state == InstanceState::Evicted {
            return None;
        }
        let (answer, ready) = oneshot::channel();
        instance.tell_when_ready(answer, is_replaced);
        Some(ready)
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

    /// Tells draining engine processes to end, once nobody has a seat there: a call may have its
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
    fn measure(&mut self) {
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
