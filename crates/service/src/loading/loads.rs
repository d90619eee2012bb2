//! Loading and unloading: instances that the operator requested, and the fleet that loads them.

use std::sync::Arc;
use std::time::{Duration, Instant};

use deft_depot::VariantName;
use deft_planning::PoolReport;
use deft_protocol::manage::{
    IdleLimit, InstanceReport, InstanceState, LoadRequest, Origin, PlanReport, PoolPlan,
    SettingsRequest,
};
use deft_protocol::{Problem, ProblemKind};
use sqlx::PgPool;
use uuid::Uuid;

use crate::depot::catalogue::{Catalogue, database_problem};
use crate::fleet::{self, Asker, Fleet, Judged, Seat, Unload, Verdict};
use crate::fleet::{Policy, Target};
use crate::records::instances::{self, RequestedInstance};
use crate::records::variants::Registered;
use crate::{loading::refusals, wire};

/// Longest time that an operator's load waits for the instance to be ready.
const LOAD_WAIT: Duration = Duration::from_secs(600);

/// Longest time until a report shows a change.
const REPORT_WAIT: Duration = Duration::from_secs(1);
/// Most instances of one variant.
const MAX_INSTANCES: u32 = 64;

/// So often what a call brought and others evicted before it was asked is brought again.
const COMES_AGAIN: usize = 8;

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
    /// Whether an instance of a variant has this state.
    fn is_there(&self, name: &VariantName, state: InstanceState) -> bool {
        let name = name.to_string();
        let reports = self.fleet.reports();
        let report = reports.borrow();
        report.instances.iter().any(|instance| instance.state == state && instance.name == name)
    }

    fn is_loaded(&self, variant: Uuid) -> bool {
        let found = self.catalogue.by_id(variant);
        found.is_some_and(|found| self.is_there(&found.name, InstanceState::Ready))
    }

    /// The variant a name means now.
    pub(crate) fn resolve(&self, name: &str) -> Result<Arc<Registered>, Problem> {
        self.catalogue.resolve(name, |variant| self.is_loaded(variant))
    }

    async fn target(&self, request: &LoadRequest) -> Result<Target, Problem> {
        let registered = self.resolve(&request.model)?;
        let mut settings = request.settings.clone();
        if let Some(mut present) = self.present_settings(&registered).await {
            present.reset(&request.reset);
            settings = settings.or(&present);
        }
        target(&registered, &settings, IdleLimit::Never).await
    }

    /// Settings of the first requested instance of a variant. They come from the records, because a report of an instance
    /// that could not be loaded may not have them; from its report while the records cannot be read, for a plan needs none.
    async fn present_settings(&self, registered: &Registered) -> Option<SettingsRequest> {
        let Ok(all) = instances::all(&self.database, self.node).await else {
            let first = self.requested(&registered.name.to_string()).into_iter().next();
            return first.map(|found| SettingsRequest::from(&found.settings));
        };
        let first = all
            .iter()
            .filter(|found| found.variant == registered.id)
            .min_by_key(|found| found.number);
        first.map(|found| SettingsRequest::from(&found.settings))
    }

    /// Requested instances of a variant, by number.
    fn requested(&self, name: &str) -> Vec<InstanceReport> {
        let reports = self.fleet.reports();
        let mut found: Vec<InstanceReport> = reports
            .borrow()
            .instances
            .iter()
            .filter(|instance| instance.name == name && instance.origin == Origin::Requested)
            .cloned()
            .collect();
        found.sort_by_key(|instance| instance.number);
        found
    }

    /// Number of instances that are requested.
    fn instances(&self, request: &LoadRequest, target: &Target) -> Result<u32, Problem> {
        let there =
            || self.requested(&target.name.to_string()).last().map_or(1, |last| last.number);
        let instances = request.instances.unwrap_or_else(there);
        if !(1..=MAX_INSTANCES).contains(&instances) {
            return Err(refusals::instances(instances, MAX_INSTANCES));
        }
        Ok(instances)
    }

    /// Plans loads one after the other.
    pub(crate) async fn plan(&self, requests: &[LoadRequest]) -> Result<PlanReport, Problem> {
        if requests.is_empty() {
            let detail = "`models` is empty";
            return Err(Problem::new(ProblemKind::Invalid, "models_empty", detail));
        }
        let mut wanted = Vec::new();
        for request in requests {
            let target = self.target(request).await?;
            let instances = request.instances.unwrap_or(1);
            if !(1..=MAX_INSTANCES).contains(&instances) {
                return Err(refusals::instances(instances, MAX_INSTANCES));
            }
            wanted.push((target, instances));
        }
        let each = wanted.iter().flat_map(|(target, instances)| {
            (1..=*instances).map(|number| Target { number, ..target.clone() })
        });
        let Judged { verdicts, before, after } = self.fleet.judge(each.collect()).await?;
        let mut verdicts = verdicts.into_iter();
        let is_simulated = |pool: &str| self.is_simulated(pool);
        let plans = wanted.iter().map(|(target, instances)| {
            let of_instances: Vec<Verdict> = verdicts.by_ref().take(*instances as usize).collect();
            wire::plan(target, *instances, &of_instances, is_simulated)
        });
        let pool = |(before, after): (PoolReport, PoolReport)| PoolPlan {
            simulated: self.is_simulated(&before.name),
            name: before.name,
            limit: before.limit.0,
            reserved: before.reserved.0,
            after: after.reserved.0,
        };
        Ok(PlanReport {
            plans: plans.collect(),
            pools: before.into_iter().zip(after).map(pool).collect(),
        })
    }

    fn is_simulated(&self, pool: &str) -> bool {
        let reports = self.fleet.reports();
        let report = reports.borrow();
        report.pools.iter().any(|found| found.name == pool && found.simulated)
    }

    /// Loads what the operator requests, and waits until all of its instances are ready.
    pub(crate) async fn load(&self, request: &LoadRequest) -> Result<InstanceReport, Problem> {
        let target = self.target(request).await?;
        let instances = self.instances(request, &target)?;
        let mut there = Vec::new();
        let mut new = Vec::new();
        for number in 1..=instances {
            let wanted = Uuid::now_v7();
            let target = Target { number, ..target.clone() };
            match self.load_instance(wanted, target).await {
                Ok(id) => {
                    there.push(id);
                    new.extend((id == wanted).then_some(id));
                }
                Err(problem) => {
                    self.take_back(&new).await;
                    return Err(problem);
                }
            }
        }
        for surplus in
            self.requested(&target.name.to_string()).iter().filter(|found| found.number > instances)
        {
            self.unload(surplus.id, Unload::Drain).await?;
        }
        for id in &there {
            if let Err(problem) = self.become_ready(*id).await {
                // A file that cannot be loaded is not to be tried again at every start. Instances
                // that existed before still answer.
                new.extend((!new.contains(id)).then_some(*id));
                self.take_back(&new).await;
                return Err(problem);
            }
        }
        self.instance(there[0])
    }

    /// One instance: reserved, started and remembered.
    async fn load_instance(&self, wanted: Uuid, target: Target) -> Result<Uuid, Problem> {
        let (variant, number) = (target.variant, target.number);
        let settings = wire::settings(&target);
        // A temporary registration is not reloaded.
        if self.catalogue.by_id(variant).is_some_and(|found| found.is_temporary) {
            return self.fleet.load(wanted, target, Origin::OnDemand).await;
        }
        let id = self.fleet.load(wanted, target, Origin::Requested).await?;
        let requested = RequestedInstance { id, variant, number, settings };
        if let Err(error) = instances::store(&self.database, self.node, &requested).await {
            if id == wanted {
                let _ = self.fleet.unload(id, Unload::Now).await;
            }
            return Err(database_problem(&error));
        }
        Ok(id)
    }

    async fn become_ready(&self, id: Uuid) -> Result<(), Problem> {
        match self.fleet.ready(id, LOAD_WAIT).await? {
            Some(()) => {
                self.is_reported_ready(id).await;
                Ok(())
            }
            None => Err(refusals::ended_early()),
        }
    }

    /// Waits until the reports show it too.
    async fn is_reported_ready(&self, id: Uuid) {
        let ready = |report: &fleet::FleetReport| {
            let found = report.instances.iter().find(|instance| instance.id == id);
            found.is_none_or(|instance| instance.state == InstanceState::Ready)
        };
        let mut reports = self.fleet.reports();
        // They are published before the next question is taken.
        let _ = tokio::time::timeout(REPORT_WAIT, reports.wait_for(ready)).await;
    }

    async fn take_back(&self, ids: &[Uuid]) {
        for &id in ids {
            let _ = instances::remove(&self.database, id).await;
            let _ = self.fleet.unload(id, Unload::Now).await;
        }
    }

    /// Retries to load a failed instance with its requested settings.
    pub(crate) async fn retry(&self, id: Uuid) -> Result<InstanceReport, Problem> {
        let instance = self.instance(id)?;
        let requested =
            instances::all(&self.database, self.node).await.map_err(|e| database_problem(&e))?;
        let settings =
            requested.into_iter().find(|found| found.id == id).map(|found| found.settings);
        let request = SettingsRequest::from(&settings.unwrap_or(instance.settings));
        let registered = self.resolve(&instance.name)?;
        let target = target(&registered, &request, IdleLimit::Never).await?;
        let target = Target { number: instance.number, ..target };
        let id = self.load_instance(Uuid::now_v7(), target).await?;
        self.become_ready(id).await?;
        self.instance(id)
    }

    /// Report of one instance.
    pub(crate) fn instance(&self, id: Uuid) -> Result<InstanceReport, Problem> {
        let reports = self.fleet.reports();
        let report = reports.borrow();
        let found = report.instances.iter().find(|instance| instance.id == id).cloned();
        found.ok_or_else(|| refusals::no_instance(id))
    }

    /// Unloads an instance that is no longer requested.
    pub(crate) async fn unload(&self, id: Uuid, how: Unload) -> Result<(), Problem> {
        instances::remove(&self.database, id).await.map_err(|error| database_problem(&error))?;
        self.fleet.unload(id, how).await
    }

    /// A seat for a call, loading the model where it is registered only; a caller may have a deadline
    /// of its own.
    pub(crate) async fn seat(
        &self,
        registered: &Registered,
        asker: &Asker,
    ) -> Result<Seat, Problem> {
        let longest = asker.deadline.map_or(self.wait, |deadline| deadline.min(self.wait));
        let arrived = Instant::now();
        let left = || longest.saturating_sub(arrived.elapsed());
        if let Some(seat) = self.fleet.seat(registered.id, asker, longest).await? {
            return Ok(waited(seat, arrived));
        }
        if !self.on_demand {
            return Err(refusals::not_loaded(&registered.name.to_string()));
        }
        let target = target(registered, &SettingsRequest::default(), self.idle).await?;
        for _ in 0..COMES_AGAIN {
            let load = self.fleet.load(Uuid::now_v7(), target.clone(), Origin::OnDemand);
            match tokio::time::timeout(left(), load).await {
                Ok(loaded) => loaded?,
                Err(_) => return Err(self.no_room_in_time(target, longest).await),
            };
            match self.fleet.seat(registered.id, asker, left()).await {
                Ok(Some(seat)) => return Ok(waited(seat, arrived)),
                // This call was slow to take its seat, so another load evicted the idle instance.
                Ok(None) if !self.is_there(&registered.name, InstanceState::Failed) => {}
                Ok(None) => break,
                // It waited for room before.
                Err(problem) if problem.code == refusals::LOAD_SLOW => {
                    return Err(refusals::load_slow(longest));
                }
                Err(problem) => return Err(problem),
            }
        }
        Err(refusals::ended_early())
    }

    /// Why a call that waited found no room.
    async fn no_room_in_time(&self, target: Target, waited: Duration) -> Problem {
        let judged = self.fleet.judge(vec![target]).await;
        let refusal = judged.ok().and_then(|judged| judged.verdicts.into_iter().next()?.1);
        match refusal {
            Some(refusal) => refusals::no_room_for_call(&refusal, Some(waited)),
            None => refusals::load_slow(waited),
        }
    }

    /// Reloads requested instances after a start; those that cannot be loaded are shown as failed.
    pub(crate) async fn restore(&self) -> sqlx::Result<()> {
        let mut requested = instances::all(&self.database, self.node).await?;
        requested.sort_by_key(|found| std::cmp::Reverse(found.settings.importance));
        for requested in requested {
            let Some(registered) = self.catalogue.by_id(requested.variant) else {
                continue;
            };
            let request = SettingsRequest::from(&requested.settings);
            let target = match target(&registered, &request, IdleLimit::Never).await {
                Ok(target) => Target { number: requested.number, ..target },
                Err(problem) => {
                    let target = Target { number: requested.number, ..empty_target(&registered) };
                    self.fleet.show_failed(requested.id, target, problem).await;
                    continue;
                }
            };
            let loaded = self.fleet.load(requested.id, target.clone(), Origin::Requested).await;
            if let Err(problem) = loaded {
                self.fleet.show_failed(requested.id, target, problem).await;
            }
        }
        Ok(())
    }
}

/// Tells how long a seat was waited for.
fn waited(mut seat: Seat, arrived: Instant) -> Seat {
    let load = seat.ready_since.saturating_duration_since(arrived);
    seat.load_seconds = load.as_secs_f64();
    seat.queue_seconds = arrived.elapsed().saturating_sub(load).as_secs_f64();
    seat
}

/// An instance to load; `idle` is its default idle limit.
async fn target(
    registered: &Registered,
    request: &SettingsRequest,
    idle: IdleLimit,
) -> Result<Target, Problem> {
    let request = request.or(&registered.given.defaults);
    let policy = wire::policy(&request, idle)?;
    let places = wire::places(&request);
    fleet::target(registered, policy, places, |shape| wire::load_settings(&request, shape)).await
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
        template: None,
        variant: registered.id,
        number: 1,
        places: Vec::new(),
        name: registered.name.clone(),
        files: vec![registered.path.clone()],
        shape,
        settings,
        policy: Policy::default(),
    }
}
