//! The task that owns the fleet.

use std::collections::{BTreeMap, BTreeSet};
use std::time::Duration;

use deft_planning::{Bytes, Demand, Ledger};
use deft_protocol::manage::{InstanceState, Keeping, Pool};
use deft_protocol::{Problem, ProblemKind};
use tokio::sync::{mpsc, oneshot, watch};
use uuid::Uuid;

use super::engine_link::{EngineProcess, ProcessEvent};
use super::instance::{AfterCrash, Instance, Leaving};
use super::memory::{self, Measured};
use super::room::{LOADED_OTHERWISE, Pending};
use super::{Ask, FleetReport, Judged, Seat, Target, Unload};
use crate::config::MakeRoom;
use crate::wire;

/// How often memory is measured.
const MEASURE_EVERY: Duration = Duration::from_secs(1);
/// The one pool there is so far.
const HOST: &str = "host";

pub(super) struct Actor {
    pub(super) ledger: Ledger<Uuid>,
    pub(super) instances: BTreeMap<Uuid, Instance>,
    /// Loads that wait for others to go.
    pub(super) pending: Vec<Pending>,
    pub(super) make_room: MakeRoom,
    asks: mpsc::Sender<Ask>,
    publish: watch::Sender<FleetReport>,
    drained: Vec<oneshot::Sender<()>>,
    pub(super) stopping: bool,
    measuring: bool,
}

impl Actor {
    pub(super) fn new(
        host_limit: Bytes,
        make_room: MakeRoom,
        asks: mpsc::Sender<Ask>,
        publish: watch::Sender<FleetReport>,
    ) -> Self {
        Self {
            ledger: Ledger::new(HOST, host_limit),
            instances: BTreeMap::new(),
            pending: Vec::new(),
            make_room,
            asks,
            publish,
            drained: Vec::new(),
            stopping: false,
            measuring: false,
        }
    }

    pub(super) async fn run(mut self, mut questions: mpsc::Receiver<Ask>) {
        let mut clock = tokio::time::interval(MEASURE_EVERY);
        loop {
            self.publish();
            let ask = tokio::select! {
                ask = questions.recv() => ask,
                _ = clock.tick() => Some(Ask::Refresh),
            };
            match ask {
                Some(ask) => self.take(ask),
                None => return,
            }
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
            Ask::Load { id, target, keeping, answer } => {
                self.load_or_wait(Pending { id, target: *target, keeping, answer });
            }
            Ask::SetAside { id, target, problem } => self.set_aside(id, *target, &problem),
            Ask::Seat { variant, answer } => drop(answer.send(self.seat(variant))),
            Ask::Unload { id, how, gone, answer } => {
                drop(answer.send(self.unload(id, how, gone)));
            }
            Ask::Started { id, result } => self.started(id, result),
            Ask::Process { id, event } => self.process(id, event),
            Ask::LoadAgain { id } => self.load_again(id),
            Ask::Measured(all) => self.measured(all),
            Ask::CallEnded => {
                self.drain_the_free();
                self.end_the_idle();
            }
            Ask::Refresh => {
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

    fn judge(&self, targets: &[Target]) -> Judged {
        let idle = self.idle();
        let mut ledger = self.ledger.clone();
        let verdict = |target: &Target| {
            let name = target.name.to_string();
            match ledger.reserve(Uuid::now_v7(), target.candidate(&name), &idle) {
                Ok(demand) => (demand, None),
                Err(refusal) => (
                    Demand::of(&target.shape, &target.settings),
                    Some(wire::refusal(&refusal, &target.shape)),
                ),
            }
        };
        let verdicts = targets.iter().map(verdict).collect();
        Judged { verdicts, before: self.ledger.report(), after: ledger.report() }
    }

    pub(super) fn load(
        &mut self,
        id: Uuid,
        target: Target,
        keeping: Keeping,
    ) -> Result<Uuid, Problem> {
        if self.stopping {
            return Err(Problem::new(ProblemKind::Busy, "stopping", "the service is stopping"));
        }
        let (id, target, keeping) = self.or_displaced(id, target, keeping);
        let there = self.of_variant(target.variant).map(|found| (found.id, found.state));
        let replaced = match there {
            Some((found, InstanceState::Failed | InstanceState::Displaced)) => Some(found),
            Some((found, _)) => return self.join(found, &target, keeping),
            None => None,
        };
        let name = target.name.to_string();
        let idle = self.idle();
        let demand = self
            .ledger
            .reserve(id, target.candidate(&name), &idle)
            .map_err(|refusal| wire::refusal(&refusal, &target.shape))?;
        tracing::info!("loading `{name}`: {} planned in pool `{HOST}`", demand.total());
        if let Some(replaced) = replaced {
            self.instances.remove(&replaced);
        }
        self.instances.insert(id, Instance::new(id, target, keeping, demand, self.asks.clone()));
        self.start(id);
        Ok(id)
    }

    pub(super) fn of_variant(&self, variant: Uuid) -> Option<&Instance> {
        self.instances.values().find(|found| found.target.variant == variant)
    }

    /// Another wish for a variant that is there.
    fn join(&mut self, id: Uuid, target: &Target, keeping: Keeping) -> Result<Uuid, Problem> {
        let instance = self.instances.get_mut(&id).expect("looked up by the caller");
        let name = &target.name;
        if instance.state == InstanceState::Draining {
            let detail = format!("`{name}` is being unloaded");
            return Err(Problem::new(ProblemKind::Busy, "draining", detail)
                .with_way_out("try again in a moment"));
        }
        if keeping == Keeping::Kept {
            if instance.target.settings != target.settings {
                let detail = format!("`{name}` is loaded already, with other settings");
                return Err(Problem::new(ProblemKind::Refused, LOADED_OTHERWISE, detail));
            }
            instance.keeping = Keeping::Kept;
            instance.target.policy = target.policy;
        }
        Ok(id)
    }

    fn set_aside(&mut self, id: Uuid, target: Target, problem: &Problem) {
        let demand = Demand::of(&target.shape, &target.settings);
        let mut instance = Instance::new(id, target, Keeping::Kept, demand, self.asks.clone());
        instance.fail(problem);
        self.instances.insert(id, instance);
    }

    pub(super) fn start(&self, id: Uuid) {
        let order = self.instances[&id].order();
        let asks = self.asks.clone();
        tokio::spawn(async move {
            let (tell, mut events) = mpsc::unbounded_channel();
            let result = EngineProcess::start(order, tell).await;
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
            Err(error) => self.ended(id, &format!("it could not be started: {error}")),
        }
    }

    fn process(&mut self, id: Uuid, event: ProcessEvent) {
        let Some(instance) = self.instances.get_mut(&id) else {
            return;
        };
        match event {
            ProcessEvent::Loaded { kernels, seconds, warnings } => {
                if instance.state == InstanceState::Loading {
                    tracing::info!("`{}` is ready after {seconds:.3} s", instance.target.name);
                    instance.become_ready(kernels, seconds, &warnings);
                    self.measure();
                }
            }
            ProcessEvent::LoadFailed(problem) => {
                tracing::warn!("`{}` cannot be loaded: {}", instance.target.name, problem.detail);
                instance.fail(&problem);
                self.ledger.release(id);
            }
            ProcessEvent::Exited { how } => self.ended(id, &how),
        }
    }

    /// An engine process ended: asked to, or not.
    fn ended(&mut self, id: Uuid, how: &str) {
        let Some(instance) = self.instances.get_mut(&id) else {
            return;
        };
        let name = instance.target.name.clone();
        match instance.state {
            InstanceState::Draining => {
                tracing::info!("`{name}` is unloaded");
                self.remove(id);
            }
            InstanceState::Failed => {
                instance.process = None;
                instance.measured = None;
                if instance.keeping == Keeping::OnDemand {
                    self.remove(id);
                }
            }
            _ => match instance.crashed(how) {
                AfterCrash::LoadAgainAfter(pause) => {
                    tracing::error!(
                        "the engine process of `{name}` ended ({how}); it is loaded again"
                    );
                    let asks = self.asks.clone();
                    tokio::spawn(async move {
                        tokio::time::sleep(pause).await;
                        let _ = asks.send(Ask::LoadAgain { id }).await;
                    });
                }
                AfterCrash::SetAside => {
                    let detail = format!("its engine process ended again and again ({how})");
                    tracing::error!("`{name}` is set aside: {detail}");
                    let problem = Problem::new(ProblemKind::Fault, "engine_crashes", detail)
                        .with_way_out(format!(
                            "see `deft service logs`; try again: deft load {name}"
                        ));
                    instance.fail(&problem);
                    self.ledger.release(id);
                }
            },
        }
    }

    fn remove(&mut self, id: Uuid) {
        self.ledger.release(id);
        let displaced = self.instances.get_mut(&id).is_some_and(|instance| {
            instance.state == InstanceState::Draining && instance.become_displaced()
        });
        let gone = if displaced {
            self.instances.get_mut(&id).map(|instance| std::mem::take(&mut instance.gone))
        } else {
            self.instances.remove(&id).map(|instance| instance.gone)
        };
        gone.into_iter().flatten().for_each(|gone| {
            let _ = gone.send(());
        });
        self.retry_pending();
    }

    fn load_again(&mut self, id: Uuid) {
        let Some(instance) = self.instances.get_mut(&id) else {
            return;
        };
        if instance.state == InstanceState::Restarting {
            instance.state = InstanceState::Loading;
            self.start(id);
        }
    }

    fn seat(&mut self, variant: Uuid) -> Option<oneshot::Receiver<Result<Seat, Problem>>> {
        let mut candidates = self.instances.values_mut();
        let instance = candidates.find(|found| {
            let away = [InstanceState::Failed, InstanceState::Displaced];
            found.target.variant == variant && !away.contains(&found.state)
        })?;
        let (answer, seat) = oneshot::channel();
        match (instance.state, instance.seat(false)) {
            (_, Some(seat)) => drop(answer.send(Ok(seat))),
            (InstanceState::Draining, None) => {
                let detail = format!("`{}` is being unloaded", instance.target.name);
                let problem = Problem::new(ProblemKind::Busy, "draining", detail);
                drop(answer.send(Err(problem.with_way_out("try again in a moment"))));
            }
            (_, None) => instance.waiting.push(answer),
        }
        Some(seat)
    }

    fn unload(&mut self, id: Uuid, how: Unload, gone: oneshot::Sender<()>) -> Result<(), Problem> {
        let Some(instance) = self.instances.get_mut(&id) else {
            let detail = format!("there is no instance {id}");
            return Err(Problem::new(ProblemKind::Missing, "no_instance", detail));
        };
        instance.gone.push(gone);
        instance.leaving = Leaving::Gone;
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
        let pool = self.ledger.report();
        let mut files = BTreeMap::new();
        let mut private = 0;
        for instance in self.instances.values() {
            if let Some(measured) = instance.measured {
                private += measured.private;
                let file: &mut u64 = files.entry(instance.target.path()).or_default();
                *file = (*file).max(measured.file);
            }
        }
        let report = FleetReport {
            instances: self.instances.values().map(|found| found.report(&pool.name)).collect(),
            pools: vec![Pool {
                measured: private + files.values().sum::<u64>(),
                name: pool.name,
                limit: pool.limit.0,
                reserved: pool.reserved.0,
            }],
        };
        self.publish.send_if_modified(|current| {
            let changed = *current != report;
            *current = report;
            changed
        });
    }
}
