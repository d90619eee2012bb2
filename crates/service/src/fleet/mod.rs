//! The fleet: all instances of this node, the ledger of their memory, and the reaction when an
//! engine process starts, ends or dies. One task owns it all; others hold a [`Fleet`] and ask.

mod actor;
mod decisions;
pub(crate) mod engine_link;
mod engine_processes;
pub(crate) mod instance;
pub(crate) mod memory;
pub(crate) mod pools;
mod queue;
mod room;
mod seat;
mod target;

use std::time::Duration;

use deft_planning::{Grant, LoadSettings, PoolReport, RequestedPlace};
use deft_protocol::Problem;
use deft_protocol::manage::{Decision, InstanceReport, Origin, Pool};
use tokio::sync::{mpsc, oneshot, watch};
use tokio::task::JoinHandle;
use uuid::Uuid;

use actor::Actor;
use engine_link::ProcessEvent;
use memory::Measured;
use pools::Machine;
pub(crate) use queue::{Asker, QueuePosition, QueueReport};
pub(crate) use seat::Seat;
pub(crate) use target::{Policy, Target};

use crate::config::Evictable;
use crate::depot::catalogue::off_thread;
use crate::depot::header_process::HeaderHelper;
use crate::{loading::refusals, wire};

/// Questions that may wait for the fleet's task.
const WAITING: usize = 256;

/// State of the instances and pools.
#[derive(Debug, Clone, Default, PartialEq)]
pub(crate) struct FleetReport {
    pub(crate) instances: Vec<InstanceReport>,
    pub(crate) pools: Vec<Pool>,
    pub(crate) decisions: Vec<Decision>,
}

/// What a load needs and where, and why it would be refused.
pub(crate) type Verdict = (Grant, Option<Problem>);

/// Loads judged one after the other, as if those before had been granted where they fit.
pub(crate) struct Judged {
    pub(crate) verdicts: Vec<Verdict>,
    pub(crate) before: Vec<PoolReport>,
    pub(crate) after: Vec<PoolReport>,
}

enum Ask {
    Judge {
        targets: Vec<Target>,
        answer: oneshot::Sender<Result<Judged, Problem>>,
    },
    Load {
        id: Uuid,
        target: Box<Target>,
        origin: Origin,
        answer: oneshot::Sender<Result<Uuid, Problem>>,
    },
    ShowFailed {
        id: Uuid,
        target: Box<Target>,
        problem: Problem,
    },
    Seat {
        variant: Uuid,
        asker: Asker,
        answer: oneshot::Sender<Option<oneshot::Receiver<Result<Seat, Problem>>>>,
    },
    Ready {
        id: Uuid,
        answer: oneshot::Sender<Option<oneshot::Receiver<Result<(), Problem>>>>,
    },
    Unload {
        id: Uuid,
        how: Unload,
        gone: oneshot::Sender<()>,
        answer: oneshot::Sender<Result<(), Problem>>,
    },
    Process {
        id: Uuid,
        event: ProcessEvent,
    },
    Started {
        id: Uuid,
        result: std::io::Result<engine_link::EngineProcess>,
    },
    Restart {
        id: Uuid,
    },
    Measured(Vec<(Uuid, Measured)>),
    Limit {
        pool: String,
        limit: String,
        answer: oneshot::Sender<Result<Pool, Problem>>,
    },
    /// A call ended the process of an instance twice.
    Blame {
        id: Uuid,
        caller: String,
        call: Uuid,
    },
    CallEnded,
    Refresh,
    DrainAll {
        answer: oneshot::Sender<()>,
    },
    KillAll,
}

/// What the operator wants of the fleet as a whole.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Rules {
    /// What a call may unload to make room for its model.
    pub(crate) evictable: Evictable,
    /// Calls that may wait for each instance.
    pub(crate) queue: usize,
    /// A process that has calls and says nothing for so long is replaced.
    pub(crate) hang: Duration,
    /// An instance that always has calls makes room for one that waited so long.
    pub(crate) evict_busy_after: Duration,
}

/// How an instance is unloaded.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Unload {
    /// Running calls are answered first.
    Drain,
    /// Running calls end with an error.
    Now,
}

/// The way to the fleet; cheap to clone.
#[derive(Clone)]
pub(crate) struct Fleet {
    asks: mpsc::Sender<Ask>,
    reports: watch::Receiver<FleetReport>,
    /// Copies of the weights that each instance has.
    replicas: u32,
}

impl Fleet {
    /// Starts the fleet's task. It is returned too, because the service cannot continue without it.
    pub(crate) fn start(machine: Machine, rules: Rules) -> (Self, JoinHandle<()>) {
        let (asks, questions) = mpsc::channel(WAITING);
        // Unbounded, yet bounded by the calls that have a seat.
        let (leaving, left) = mpsc::unbounded_channel();
        let (publish, reports) = watch::channel(FleetReport::default());
        let replicas = machine.computing.replicas();
        let actor = Actor::new(machine, rules, asks.clone(), leaving, publish);
        let task = tokio::spawn(actor.run(questions, left));
        (Self { asks, reports, replicas }, task)
    }

    /// As this machine holds weights.
    fn here(&self, mut target: Target) -> Target {
        target.settings.replicas = self.replicas;
        target
    }

    /// Reports of the fleet, now and after each change.
    pub(crate) fn reports(&self) -> watch::Receiver<FleetReport> {
        self.reports.clone()
    }

    /// Refuses where a variant is loaded, or is to be.
    pub(crate) fn refuse_while_loaded(&self, name: &str) -> Result<(), Problem> {
        if self.reports.borrow().instances.iter().any(|instance| instance.name == name) {
            return Err(refusals::in_use(name));
        }
        Ok(())
    }

    async fn ask<T>(&self, make: impl FnOnce(oneshot::Sender<T>) -> Ask) -> Result<T, Problem> {
        let (answer, result) = oneshot::channel();
        self.asks.send(make(answer)).await.map_err(|_| refusals::stopping())?;
        result.await.map_err(|_| refusals::stopping())
    }

    /// What loads would need one after the other, and why they would be refused.
    pub(crate) async fn judge(&self, targets: Vec<Target>) -> Result<Judged, Problem> {
        let targets = targets.into_iter().map(|target| self.here(target)).collect();
        self.ask(|answer| Ask::Judge { targets, answer }).await?
    }

    /// Reserves memory and starts an engine process, or joins the instance that is there already:
    /// its id is returned then. Does not wait for it to be ready.
    pub(crate) async fn load(
        &self,
        id: Uuid,
        target: Target,
        origin: Origin,
    ) -> Result<Uuid, Problem> {
        let target = Box::new(self.here(target));
        self.ask(|answer| Ask::Load { id, target, origin, answer }).await?
    }

    /// Shows a requested instance that could not be loaded, with the reason.
    pub(crate) async fn show_failed(&self, id: Uuid, target: Target, problem: Problem) {
        let target = Box::new(self.here(target));
        let _ = self.asks.send(Ask::ShowFailed { id, target, problem }).await;
    }

    /// Changes a pool's limit until the service stops.
    pub(crate) async fn limit(&self, pool: String, limit: String) -> Result<Pool, Problem> {
        self.ask(|answer| Ask::Limit { pool, limit, answer }).await?
    }

    /// A call ended two processes of an instance: that does not count against the instance.
    pub(crate) async fn blame(&self, id: Uuid, caller: &str, call: Uuid) {
        let _ = self.asks.send(Ask::Blame { id, caller: caller.to_owned(), call }).await;
    }

    /// A seat at an instance of a variant, waiting while it loads, for so long at most, and while all lanes
    /// are taken, for as long as it takes where the caller has no deadline of its own; none where
    /// there is no instance.
    pub(crate) async fn seat(
        &self,
        variant: Uuid,
        asker: &Asker,
        longest: Duration,
    ) -> Result<Option<Seat>, Problem> {
        let asks = asker.clone();
        let asked = self.ask(|answer| Ask::Seat { variant, asker: asks, answer });
        let Some(mut seat) = asked.await? else {
            return Ok(None);
        };
        let given = match tokio::time::timeout(longest, &mut seat).await {
            Ok(given) => given,
            Err(_) => {
                match (asker.place.report().filter(|report| report.is_loaded), asker.deadline) {
                    (None, _) => return Err(refusals::load_slow(longest)),
                    (Some(report), Some(deadline)) => {
                        return Err(refusals::queue_slow(deadline, &report));
                    }
                    (Some(_), None) => seat.await,
                }
            }
        };
        given.map_err(|_| refusals::unloaded())?.map(Some)
    }

    /// Waits until an instance is ready; none where there is no such instance.
    pub(crate) async fn ready(&self, id: Uuid, longest: Duration) -> Result<Option<()>, Problem> {
        let Some(ready) = self.ask(|answer| Ask::Ready { id, answer }).await? else {
            return Ok(None);
        };
        match tokio::time::timeout(longest, ready).await {
            Ok(Ok(ready)) => ready.map(Some),
            Ok(Err(_)) => Err(refusals::unloaded()),
            Err(_) => Err(refusals::load_slow(longest)),
        }
    }

    /// Unloads an instance and waits until its process is gone.
    pub(crate) async fn unload(&self, id: Uuid, how: Unload) -> Result<(), Problem> {
        let (gone, ended) = oneshot::channel();
        self.ask(|answer| Ask::Unload { id, how, gone, answer }).await??;
        // A closed channel means gone as well.
        let _ = ended.await;
        Ok(())
    }

    /// Unloads everything: drains for so long, then kills.
    pub(crate) async fn stop(&self, longest: Duration) {
        let drained = self.ask(|answer| Ask::DrainAll { answer });
        let mut drained = std::pin::pin!(drained);
        if tokio::time::timeout(longest, &mut drained).await.is_err() {
            tracing::warn!(
                "calls were still running after {} s; their engine processes are killed",
                longest.as_secs()
            );
            let _ = self.asks.send(Ask::KillAll).await;
            let _ = drained.await;
        }
    }
}

/// The target of a registered variant: its header is read and its file checked.
pub(crate) async fn target(
    registered: &crate::records::variants::Registered,
    policy: Policy,
    places: Vec<RequestedPlace>,
    settings: impl FnOnce(&deft_planning::ModelShape) -> Result<LoadSettings, Problem>,
) -> Result<Target, Problem> {
    let (path, stamp, stored) = (registered.path.clone(), registered.stamp, registered.stored);
    let sized = off_thread(move || {
        deft_depot::shape_of(&path, &stamp, stored, &HeaderHelper)
            .map_err(|error| wire::depot_problem(&error))
    });
    let (shape, files) = sized.await.map_err(|problem| match &problem.code[..] {
        refusals::FILE_CHANGED => refusals::changed(problem, registered),
        _ => problem,
    })?;
    let settings = settings(&shape)?;
    let (variant, name) = (registered.id, registered.name.clone());
    let template = registered.given.template.clone();
    Ok(Target { variant, number: 1, name, files, shape, template, settings, places, policy })
}
