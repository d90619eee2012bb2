//! Opening the parts of the service in order: records, fleet, depot, and what they share.

use std::collections::BTreeSet;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use actix_web::web;
use chrono::Utc;
use deft_depot::{Finder, RateLimit, Store, Web, WebSettings};
use deft_planning::Bytes;
use deft_protocol::manage::ComputingReport;
use sqlx::PgPool;
use tokio::runtime::Runtime;
use tokio::sync::OnceCell;
use tokio::task::JoinHandle;
use uuid::Uuid;

use super::changes::Changes;
use super::run::RunError;
use crate::answering::board::Board;
use crate::answering::gateway::Gateway;
use crate::answering::kept_answers::KeptAnswers;
use crate::answering::profiles::Profiles;
use crate::batches::{Batches, Runner};
use crate::config::{Config, PullConfig};
use crate::database::{CONNECT, Database};
use crate::depot::catalogue::Catalogue;
use crate::depot::files::DepotFiles;
use crate::depot::header_process::HeaderHelper;
use crate::depot::identity::{self, DepotIdentityError};
use crate::depot::pulling::{self, Pulling};
use crate::depot::sources::Sources;
use crate::depot::transfers::Transfers;
use crate::fleet::pools::Machine;
use crate::fleet::{Fleet, Rules};
use crate::loading::loads::Loads;
use crate::loading::machine_memory::Memory;
use crate::loading::processor::Computing;
use crate::observing::history;
use crate::observing::metrics::Metrics;
use crate::observing::traces::Traces;
use crate::observing::vitals::watch_machine;
use crate::permission::Permission;
use crate::records::calls::Recorder;
use crate::records::nodes::{self, NodeError};
use crate::routes::App;
use crate::routes::events::Events;

/// What all parts get from a start.
pub(super) struct Opening<'s> {
    /// Address of the service.
    pub(super) address: &'s str,
    /// Use the depot folder even if it is not the one in the records.
    pub(super) accept_depot: bool,
}

/// All parts of the service.
pub(super) struct Opened {
    pub(super) app: web::Data<App>,
    pub(super) fleet_ended: JoinHandle<()>,
    pub(super) history: JoinHandle<()>,
    pub(super) recording: JoinHandle<()>,
    pub(super) threads: TransferThreads,
    pub(super) batches: Runner,
}

impl Opening<'_> {
    /// Opens everything, reloads requested models and continues pulls.
    pub(super) async fn open(
        &self,
        config: &Config,
        database: &Database,
        permission: Permission,
        events: Events,
    ) -> Result<Opened, RunError> {
        let pool = &database.pool;
        let folder = config.data_dir.join("depot");
        let (node, node_name) = node(config, pool, &folder).await?;
        let catalogue = Arc::new(patiently(|| Catalogue::open(pool.clone(), node)).await?);
        let (fleet, fleet_ended, computing) = fleet(config).await?;
        let metrics = Metrics::new();
        let machine = watch_machine()?;
        let most = config.calls.max_records;
        let history = history::keep(pool.clone(), node, fleet.clone(), machine.clone(), most);
        let history = tokio::spawn(history);
        let (recorder, recording) = Recorder::start(pool.clone(), node, metrics.clone());
        let threads = TransferThreads::start()?;
        let shared = Shared { pool, node, catalogue: &catalogue, fleet: &fleet };
        let loads = Arc::new(shared.loads(config));
        let depot_files = shared.depot(config, folder, self.accept_depot, &threads).await?;
        if let Err(problem) = depot_files.reconcile().await {
            tracing::error!("the depot and its records cannot be compared: {}", problem.detail);
        }
        let pulling = depot_files.pulling.clone();
        patiently(|| pulling.go_on()).await?;
        patiently(|| loads.restore()).await?;
        tokio::spawn(forget_temporary(Arc::clone(&catalogue), fleet.clone()));
        let (board, traces) = (Board::new(), Traces::start());
        let profiles = patiently(|| Profiles::open(pool.clone(), node, Arc::clone(&catalogue)));
        let profiles = Arc::new(profiles.await?);
        let batches = Batches::open(config.data_dir.join("batches"), pool.clone(), node);
        let (batches, orders) = batches.await?;
        let app = web::Data::new(App {
            catalogue,
            fleet,
            changes: Changes::here(),
            depot_files,
            pulling,
            gateway: Gateway {
                loads: Arc::clone(&loads),
                recorder,
                board: board.clone(),
                traces: Arc::clone(&traces),
                profiles: Arc::clone(&profiles),
            },
            profiles,
            traces,
            board,
            kept_answers: KeptAnswers::start(),
            batches,
            permission,
            events,
            metrics,
            machine,
            computing,
            heartbeat: Duration::from_secs(config.calls.heartbeat_seconds),
            status_held: Duration::from_secs(config.calls.hold_status_seconds),
            loads,
            database: pool.clone(),
            database_up: database.watch(),
            database_kind: database.kind(),
            node,
            node_name,
            address: self.address.to_owned(),
            started_at: Utc::now(),
        });
        let batches = Runner::start(app.clone(), orders)?;
        Ok(Opened { app, fleet_ended, history, recording, threads, batches })
    }
}

/// Id and name of this machine's node in the records.
async fn node(config: &Config, pool: &PgPool, depot: &Path) -> Result<(Uuid, String), RunError> {
    let is_private = config.database.url.is_none();
    let depot = deft_depot::identity(depot)?;
    let node = patiently(|| nodes::id(pool, &config.data_dir, is_private, depot)).await?;
    let name = rustix::system::uname().nodename().to_string_lossy().into_owned();
    patiently(|| nodes::introduce(pool, node, &name)).await?;
    Ok((node, name))
}

/// The fleet with this machine's pools, its task, and the processors of engine processes.
async fn fleet(config: &Config) -> Result<(Fleet, JoinHandle<()>, ComputingReport), RunError> {
    let memory = Memory::read(Path::new("/"))?;
    if let Some(group) = memory.group {
        tracing::info!("a control group allows {} of the machine's memory", Bytes(group));
    }
    let computing = Computing::found(config).await;
    let report = computing.report.clone();
    let machine = Machine {
        usable: Bytes(memory.usable()),
        host_limit: config.host_limit(memory.usable())?,
        accelerators: config.accelerators()?,
        max_instances: config.loading.max_instances,
        computing,
    };
    let rules = Rules {
        evictable: config.loading.evict,
        queue: config.calls.queue,
        hang: Duration::from_secs(config.loading.hang_seconds),
        evict_busy_after: Duration::from_secs(config.loading.evict_busy_seconds),
    };
    let (fleet, ended) = Fleet::start(machine, rules);
    Ok((fleet, ended, report))
}

/// What loading and the depot share.
struct Shared<'s> {
    pool: &'s PgPool,
    node: Uuid,
    catalogue: &'s Arc<Catalogue>,
    fleet: &'s Fleet,
}

impl Shared<'_> {
    fn loads(&self, config: &Config) -> Loads {
        Loads {
            catalogue: Arc::clone(self.catalogue),
            fleet: self.fleet.clone(),
            database: self.pool.clone(),
            node: self.node,
            on_demand: config.loading.on_demand,
            idle: config.loading.idle,
            wait: Duration::from_secs(config.loading.wait_seconds),
        }
    }

    /// The depot, if it is the one in the records.
    async fn depot(
        &self,
        config: &Config,
        folder: PathBuf,
        accept: bool,
        threads: &TransferThreads,
    ) -> Result<DepotFiles, RunError> {
        let (pool, node) = (self.pool, self.node);
        let stored = self.catalogue.all().iter().filter(|found| found.stored).count();
        patiently(|| identity::check(pool, node, &folder, stored, accept)).await?;
        let store = Arc::new(Store::open(&folder)?);
        patiently(|| nodes::has_depot(pool, node, store.id())).await?;
        let transfers = Transfers::new(Some((pool.clone(), node)), threads.handle());
        let finder = finder(config)?;
        let pulling = Pulling::new(pulling::Parts {
            sources: patiently(|| Sources::open(pool.clone(), node, &config.data_dir)).await?,
            finder,
            rate_limit: config.pull_limit()?.map_or_else(RateLimit::unlimited, RateLimit::limited),
            store: Arc::clone(&store),
            catalogue: Arc::clone(self.catalogue),
            transfers: transfers.clone(),
            fleet: self.fleet.clone(),
            memory_speed: OnceCell::new(),
        });
        let (catalogue, fleet) = (Arc::clone(self.catalogue), self.fleet.clone());
        Ok(DepotFiles { store, folder, catalogue, transfers, fleet, pulling })
    }
}

/// The threads of transfers.
pub(super) struct TransferThreads(Option<Runtime>);

impl TransferThreads {
    fn start() -> io::Result<Self> {
        let mut threads = tokio::runtime::Builder::new_multi_thread();
        threads.worker_threads(2).thread_name("transfers").enable_all().build().map(Some).map(Self)
    }

    fn handle(&self) -> tokio::runtime::Handle {
        self.0.as_ref().map_or_else(tokio::runtime::Handle::current, |it| it.handle().clone())
    }
}

/// Interrupts running transfers, as a crash would; the next start continues them.
impl Drop for TransferThreads {
    fn drop(&mut self) {
        if let Some(runtime) = self.0.take() {
            runtime.shutdown_background();
        }
    }
}

/// Whether an error may only mean that the machine hangs for a moment.
trait MayPass {
    fn may_pass(&self) -> bool;
}

impl MayPass for sqlx::Error {
    fn may_pass(&self) -> bool {
        matches!(self, Self::PoolTimedOut)
    }
}

impl MayPass for NodeError {
    fn may_pass(&self) -> bool {
        matches!(self, Self::Records(error) if error.may_pass())
    }
}

impl MayPass for DepotIdentityError {
    fn may_pass(&self) -> bool {
        matches!(self, Self::Records(error) if error.may_pass())
    }
}

/// Reads from the records at a start, and retries while the machine hangs for a moment.
async fn patiently<T, E, F>(mut read: impl FnMut() -> F) -> Result<T, E>
where
    E: MayPass,
    F: Future<Output = Result<T, E>>,
{
    let deadline = tokio::time::Instant::now() + CONNECT;
    loop {
        match read().await {
            Err(error) if error.may_pass() && tokio::time::Instant::now() < deadline => {}
            done => return done,
        }
    }
}

fn finder(config: &Config) -> Result<Finder, RunError> {
    let PullConfig { ca_file, stall_seconds, .. } = &config.pull;
    let settings =
        WebSettings { ca_file: ca_file.as_deref(), stall: Duration::from_secs(*stall_seconds) };
    let web = Web::new(&settings)?;
    Ok(Finder::new(web, ca_file.clone(), config.data_dir.join("sources"), Arc::new(HeaderHelper)))
}

/// Removes temporary variants after their instances have ended.
async fn forget_temporary(catalogue: Arc<Catalogue>, fleet: Fleet) {
    let mut reports = fleet.reports();
    let mut seen = BTreeSet::new();
    while reports.changed().await.is_ok() {
        let instances = reports.borrow_and_update().instances.clone();
        let loaded = instances.into_iter().map(|instance| instance.name).collect();
        catalogue.forget_temporary(&loaded, &mut seen);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// What a pool says that gives no connection for three seconds.
    async fn nothing() -> Result<u32, sqlx::Error> {
        tokio::time::sleep(Duration::from_secs(3)).await;
        Err(sqlx::Error::PoolTimedOut)
    }

    #[tokio::test(start_paused = true)]
    async fn a_start_waits_for_records_that_stand_still_and_not_for_ever() {
        let mut asked = 0;
        let found = patiently(|| {
            asked += 1;
            let is_back = asked == 4;
            async move { if is_back { Ok(7) } else { nothing().await } }
        });
        assert_eq!(found.await.unwrap(), 7);
        let began = tokio::time::Instant::now();
        let never = patiently(nothing).await;
        assert!(matches!(never, Err(sqlx::Error::PoolTimedOut)), "{never:?}");
        assert_eq!(began.elapsed(), CONNECT);
        let mut asked = 0;
        let broken = patiently(|| {
            asked += 1;
            async { Err::<u32, _>(sqlx::Error::PoolClosed) }
        });
        assert!(matches!(broken.await, Err(sqlx::Error::PoolClosed)));
        assert_eq!(asked, 1, "other errors are reported at once");
    }
}
