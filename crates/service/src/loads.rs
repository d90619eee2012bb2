//! Loading and unloading: wishes on one side, the fleet on the other.

use std::sync::Arc;
use std::time::{Duration, Instant};

use deft_depot::VariantName;
use deft_planning::PoolReport;
use deft_protocol::manage::{
    IdleLimit, InstanceReport, InstanceState, Keeping, LoadRequest, PlanReport, PoolPlan,
    SettingsRequest,
};
use deft_protocol::{Problem, ProblemKind};
use sqlx::PgPool;
use uuid::Uuid;

use crate::catalogue::{Catalogue, database_problem};
use crate::fleet::instance::{Policy, Target};
use crate::fleet::{self, Asker, Fleet, Judged, Seat, Unload, Verdict};
use crate::records::variants::Registered;
use crate::records::wishes::{self, Wish};
use crate::{refusals, wire};

/// Longest time that an operator's load waits for the instance to be ready.
const LOAD_WAIT: Duration = Duration::from_secs(600);

/// Longest time until a report tells what happened.
const REPORT_WAIT: Duration = Duration::from_secs(1);
/// Most instances of one variant.
const MOST_COPIES: u32 = 64;

/// So often what a call brought and others displaced before it was asked is brought again.
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
    /// Whether an instance of a variant stands so.
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
        target(&registered, &request.settings, IdleLimit::Never).await
    }

    /// Instances of a variant, the first copy first.
    fn instances_of(&self, target: &Target) -> Vec<InstanceReport> {
        let name = target.name.to_string();
        let reports = self.fleet.reports();
        let mut found: Vec<InstanceReport> = reports
            .borrow()
            .instances
            .iter()
            .filter(|instance| instance.name == name && instance.keeping == Keeping::Kept)
            .cloned()
            .collect();
        found.sort_by_key(|instance| instance.copy);
        found
    }

    /// How many instances of it are wished.
    fn copies(&self, request: &LoadRequest, target: &Target) -> Result<u32, Problem> {
        let there = || self.instances_of(target).last().map_or(1, |last| last.copy);
        let copies = request.copies.unwrap_or_else(there);
        if !(1..=MOST_COPIES).contains(&copies) {
            return Err(refusals::copies(copies, MOST_COPIES));
        }
        Ok(copies)
    }

    /// What loads would need, and whether they would fit one after the other.
    pub(crate) async fn plan(&self, requests: &[LoadRequest]) -> Result<PlanReport, Problem> {
        if requests.is_empty() {
            let detail = "`models` is empty";
            return Err(Problem::new(ProblemKind::Invalid, "models_empty", detail));
        }
        let mut wanted = Vec::new();
        for request in requests {
            let target = self.target(request).await?;
            let copies = request.copies.unwrap_or(1);
            if !(1..=MOST_COPIES).contains(&copies) {
                return Err(refusals::copies(copies, MOST_COPIES));
            }
            wanted.push((target, copies));
        }
        let each = wanted.iter().flat_map(|(target, copies)| {
            (1..=*copies).map(|copy| Target { copy, ..target.clone() })
        });
        let Judged { verdicts, before, after } = self.fleet.judge(each.collect()).await?;
        let mut verdicts = verdicts.into_iter();
        let is_simulated = |pool: &str| self.is_simulated(pool);
        let plans = wanted.iter().map(|(target, copies)| {
            let of_copies: Vec<Verdict> = verdicts.by_ref().take(*copies as usize).collect();
            wire::plan(target, *copies, &of_copies, is_simulated)
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

    /// Loads by an operator's wish, and waits until all instances of it are ready.
    pub(crate) async fn load(&self, request: &LoadRequest) -> Result<InstanceReport, Problem> {
        let target = self.target(request).await?;
        let copies = self.copies(request, &target)?;
        let mut there = Vec::new();
        let mut new = Vec::new();
        for copy in 1..=copies {
            let wished = Uuid::now_v7();
            let target = Target { copy, ..target.clone() };
            match self.load_copy(wished, target).await {
                Ok(id) => {
                    there.push(id);
                    new.extend((id == wished).then_some(id));
                }
                Err(problem) => {
                    self.take_back(&new).await;
                    return Err(problem);
                }
            }
        }
        for surplus in self.instances_of(&target).iter().filter(|found| found.copy > copies) {
            self.unload(surplus.id, Unload::Drain).await?;
        }
        for id in &there {
            if let Err(problem) = self.become_ready(*id).await {
                // A file that cannot be loaded is not to be tried again at every start. Instances
                // that were there before go on.
                new.extend((!new.contains(id)).then_some(*id));
                self.take_back(&new).await;
                return Err(problem);
            }
        }
        self.instance(there[0])
    }

    /// One instance: reserved, started and remembered.
    async fn load_copy(&self, wished: Uuid, target: Target) -> Result<Uuid, Problem> {
        let (variant, copy) = (target.variant, target.copy);
        let settings = wire::settings(&target);
        // What is just passing does not come back.
        if self.catalogue.by_id(variant).is_some_and(|found| found.passing) {
            return self.fleet.load(wished, target, Keeping::OnDemand).await;
        }
        let id = self.fleet.load(wished, target, Keeping::Kept).await?;
        let wish = Wish { id, variant, copy, settings };
        if let Err(error) = wishes::store(&self.database, self.node, &wish).await {
            if id == wished {
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

    /// Waits until reports tell it too.
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
            let _ = wishes::remove(&self.database, id).await;
            let _ = self.fleet.unload(id, Unload::Now).await;
        }
    }

    /// Tries again to load what was set aside, as it was wished.
    pub(crate) async fn again(&self, id: Uuid) -> Result<InstanceReport, Problem> {
        let instance = self.instance(id)?;
        let wishes =
            wishes::all(&self.database, self.node).await.map_err(|e| database_problem(&e))?;
        let settings = wishes.into_iter().find(|wish| wish.id == id).map(|wish| wish.settings);
        let request = SettingsRequest::from(&settings.unwrap_or(instance.settings));
        let registered = self.resolve(&instance.name)?;
        let target = target(&registered, &request, IdleLimit::Never).await?;
        let target = Target { copy: instance.copy, ..target };
        let id = self.load_copy(Uuid::now_v7(), target).await?;
        self.become_ready(id).await?;
        self.instance(id)
    }

    /// One instance as it stands.
    pub(crate) fn instance(&self, id: Uuid) -> Result<InstanceReport, Problem> {
        let reports = self.fleet.reports();
        let report = reports.borrow();
        let found = report.instances.iter().find(|instance| instance.id == id).cloned();
        found.ok_or_else(|| refusals::no_instance(id))
    }

    /// Unloads and forgets the wish.
    pub(crate) async fn unload(&self, id: Uuid, how: Unload) -> Result<(), Problem> {
        wishes::remove(&self.database, id).await.map_err(|error| database_problem(&error))?;
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
            let load = self.fleet.load(Uuid::now_v7(), target.clone(), Keeping::OnDemand);
            match tokio::time::timeout(left(), load).await {
                Ok(loaded) => loaded?,
                Err(_) => return Err(self.no_room_in_time(target, longest).await),
            };
            match self.fleet.seat(registered.id, asker, left()).await {
                Ok(Some(seat)) => return Ok(waited(seat, arrived)),
                // Where this call was slow to take its seat, others found nobody there and took the room.
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

    /// Brings the wishes back after a start; what cannot be loaded is shown with its reason.
    pub(crate) async fn restore(&self) -> sqlx::Result<()> {
        let mut wishes = wishes::all(&self.database, self.node).await?;
        wishes.sort_by_key(|wish| std::cmp::Reverse(wish.settings.priority));
        for wish in wishes {
            let Some(registered) = self.catalogue.by_id(wish.variant) else {
                continue;
            };
            let request = SettingsRequest::from(&wish.settings);
            let target = match target(&registered, &request, IdleLimit::Never).await {
                Ok(target) => Target { copy: wish.copy, ..target },
                Err(problem) => {
                    let target = Target { copy: wish.copy, ..empty_target(&registered) };
                    self.fleet.set_aside(wish.id, target, problem).await;
                    continue;
                }
            };
            let loaded = self.fleet.load(wish.id, target.clone(), Keeping::Kept).await;
            if let Err(problem) = loaded {
                self.fleet.set_aside(wish.id, target, problem).await;
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

/// What is to be loaded; `idle` is its idle limit where the request says none.
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
        copy: 1,
        places: Vec::new(),
        name: registered.name.clone(),
        files: vec![registered.path.clone()],
        shape,
        settings,
        policy: Policy::default(),
    }
}
