//! Loading and unloading: wishes on one side, the fleet on the other.

use std::sync::Arc;
use std::time::Duration;

use deft_protocol::manage::{
    IdleLimit, InstanceReport, InstanceState, Keeping, LoadRequest, ModelPlan, PlanReport,
    PoolPlan, Settings, SettingsRequest,
};
use deft_protocol::{Problem, ProblemKind};
use sqlx::PgPool;
use uuid::Uuid;

use crate::catalogue::{Catalogue, database_problem};
use crate::fleet::instance::{Policy, Target};
use crate::fleet::{self, Fleet, Judged, Seat, Unload, Verdict};
use crate::records::variants::Registered;
use crate::records::wishes::{self, Wish};
use crate::wire;

/// Longest time that an operator's load waits for the instance to be ready.
const LOAD_WAIT: Duration = Duration::from_secs(600);

/// Loads and unloads.
pub(crate) struct Loads {
    pub(crate) catalogue: Arc<Catalogue>,
    pub(crate) fleet: Fleet,
    pub(crate) database: PgPool,
    pub(crate) node: Uuid,
    pub(crate) on_demand: bool,
    /// When what a call brought is unloaded for want of further calls.
    pub(crate) idle: IdleLimit,
    pub(crate) wait: Duration,
}

impl Loads {
    fn is_loaded(&self, variant: Uuid) -> bool {
        let name = self.catalogue.by_id(variant).map(|found| found.name.to_string());
        let reports = self.fleet.reports();
        let report = reports.borrow();
        report.instances.iter().any(|instance| {
            instance.state == InstanceState::Ready && Some(&instance.name) == name.as_ref()
        })
    }

    /// The variant a name means now.
    pub(crate) fn resolve(&self, name: &str) -> Result<Arc<Registered>, Problem> {
        self.catalogue.resolve(name, |variant| self.is_loaded(variant))
    }

    async fn target(&self, request: &LoadRequest) -> Result<Target, Problem> {
        let registered = self.resolve(&request.model)?;
        target(&registered, &request.settings, IdleLimit::Never).await
    }

    /// What loads would need, and whether they would fit one after the other.
    pub(crate) async fn plan(&self, requests: &[LoadRequest]) -> Result<PlanReport, Problem> {
        if requests.is_empty() {
            let detail = "`models` is empty";
            return Err(Problem::new(ProblemKind::Invalid, "models_empty", detail));
        }
        let mut targets = Vec::new();
        for request in requests {
            targets.push(self.target(request).await?);
        }
        let outlines: Vec<_> = targets
            .iter()
            .map(|target| {
                (target.name.to_string(), wire::settings(&target.settings, target.policy))
            })
            .collect();
        let Judged { verdicts, before, after } = self.fleet.judge(targets).await?;
        let plan =
            |((name, settings), (demand, refusal)): ((String, Settings), Verdict)| ModelPlan {
                name,
                settings,
                pool: before.name.clone(),
                parts: wire::parts(&demand),
                total: demand.total().0,
                refusal,
            };
        Ok(PlanReport {
            plans: outlines.into_iter().zip(verdicts).map(plan).collect(),
            pools: vec![PoolPlan {
                name: before.name.clone(),
                limit: before.limit.0,
                reserved: before.reserved.0,
                after: after.reserved.0,
            }],
        })
    }

    /// Loads by an operator's wish, and waits until the instance is ready.
    pub(crate) async fn load(&self, request: &LoadRequest) -> Result<InstanceReport, Problem> {
        let target = self.target(request).await?;
        let variant = target.variant;
        let settings = wire::settings(&target.settings, target.policy);
        let wished = Uuid::now_v7();
        let id = self.fleet.load(wished, target, Keeping::Kept).await?;
        if let Err(problem) = self.remember(Wish { id, variant, settings }).await {
            if id == wished {
                let _ = self.fleet.unload(id, Unload::Now).await;
            }
            return Err(problem);
        }
        match self.fleet.seat(variant, LOAD_WAIT).await {
            Ok(Some(seat)) => drop(seat),
            Ok(None) => {
                let detail = "the instance ended before it was ready";
                return Err(Problem::new(ProblemKind::Fault, "load_failed", detail)
                    .with_way_out("the reason stands in: deft service logs"));
            }
            Err(problem) => {
                // A file that cannot be loaded is not to be tried again at every start.
                let _ = wishes::remove(&self.database, id).await;
                let _ = self.fleet.unload(id, Unload::Now).await;
                return Err(problem);
            }
        }
        self.instance(id)
    }

    async fn remember(&self, wish: Wish) -> Result<(), Problem> {
        let there =
            wishes::all(&self.database, self.node).await.map_err(|e| database_problem(&e))?;
        if there.iter().any(|known| known.id == wish.id && known.settings == wish.settings) {
            return Ok(());
        }
        for old in there.iter().filter(|known| known.variant == wish.variant) {
            wishes::remove(&self.database, old.id).await.map_err(|e| database_problem(&e))?;
        }
        wishes::store(&self.database, self.node, &wish).await.map_err(|e| database_problem(&e))
    }

    /// One instance as it stands.
    pub(crate) fn instance(&self, id: Uuid) -> Result<InstanceReport, Problem> {
        let reports = self.fleet.reports();
        let report = reports.borrow();
        report.instances.iter().find(|instance| instance.id == id).cloned().ok_or_else(|| {
            let detail = format!("there is no instance {id}");
            Problem::new(ProblemKind::Missing, "no_instance", detail)
        })
    }

    /// Unloads and forgets the wish.
    pub(crate) async fn unload(&self, id: Uuid, how: Unload) -> Result<(), Problem> {
        wishes::remove(&self.database, id).await.map_err(|error| database_problem(&error))?;
        self.fleet.unload(id, how).await
    }

    /// A seat for a call, loading the model where it is registered only.
    pub(crate) async fn seat(&self, registered: &Registered) -> Result<Seat, Problem> {
        let arrived = std::time::Instant::now();
        if let Some(seat) = self.fleet.seat(registered.id, self.wait).await? {
            return Ok(waited(seat, arrived));
        }
        if !self.on_demand {
            let detail = format!("`{}` is not loaded", registered.name);
            return Err(Problem::new(ProblemKind::Refused, "not_loaded", detail)
                .with_way_out(format!("load it: deft load {}", registered.name)));
        }
        let target = target(registered, &SettingsRequest::default(), self.idle).await?;
        let load = self.fleet.load(Uuid::now_v7(), target, Keeping::OnDemand);
        tokio::time::timeout(self.wait, load).await.map_err(|_| {
            let seconds = self.wait.as_secs();
            let detail = format!("no room was made for `{}` within {seconds} s", registered.name);
            Problem::new(ProblemKind::Busy, "no_room_yet", detail)
                .with_way_out("try again, or see what holds the memory: deft status")
        })??;
        match self.fleet.seat(registered.id, self.wait).await? {
            Some(seat) => Ok(waited(seat, arrived)),
            None => {
                let detail = format!("`{}` could not be loaded", registered.name);
                Err(Problem::new(ProblemKind::Fault, "load_failed", detail)
                    .with_way_out("the reason stands in: deft service logs"))
            }
        }
    }

    /// Brings the wishes back after a start; what cannot be loaded is shown with its reason.
    pub(crate) async fn restore(&self) -> sqlx::Result<()> {
        let mut wishes = wishes::all(&self.database, self.node).await?;
        wishes.sort_by_key(|wish| std::cmp::Reverse(wish.settings.priority));
        for wish in wishes {
            let Some(registered) = self.catalogue.by_id(wish.variant) else {
                continue;
            };
            let request = wire::request_of(&wish.settings);
            let target = match target(&registered, &request, IdleLimit::Never).await {
                Ok(target) => target,
                Err(problem) => {
                    tracing::warn!("`{}` is not loaded: {}", registered.name, problem.detail);
                    self.fleet.set_aside(wish.id, empty_target(&registered), problem).await;
                    continue;
                }
            };
            let loaded = self.fleet.load(wish.id, target.clone(), Keeping::Kept).await;
            if let Err(problem) = loaded {
                tracing::warn!("`{}` is not loaded: {}", registered.name, problem.detail);
                self.fleet.set_aside(wish.id, target, problem).await;
            }
        }
        Ok(())
    }
}

fn waited(mut seat: Seat, arrived: std::time::Instant) -> Seat {
    if seat.waited {
        seat.load_seconds = arrived.elapsed().as_secs_f64();
    }
    seat
}

/// What is to be loaded; `idle` is its idle limit where the request says none.
async fn target(
    registered: &Registered,
    request: &SettingsRequest,
    idle: IdleLimit,
) -> Result<Target, Problem> {
    let policy = wire::policy(request, idle);
    fleet::target(registered, policy, |shape| wire::load_settings(request, shape)).await
}

/// Stands for a variant whose file cannot be read any more: nothing is planned for it.
fn empty_target(registered: &Registered) -> Target {
    let shape = deft_planning::ModelShape {
        file: deft_planning::Bytes(registered.stamp.bytes),
        context_length: registered.facts.context_length,
        ..deft_planning::ModelShape::default()
    };
    let settings = deft_planning::LoadSettings::for_model(&shape);
    Target {
        variant: registered.id,
        name: registered.name.clone(),
        files: vec![registered.path.clone()],
        shape,
        settings,
        policy: Policy::default(),
    }
}
