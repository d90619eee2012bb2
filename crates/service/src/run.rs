//! The service from start to stop.

use std::collections::BTreeSet;
use std::io;
use std::net::{SocketAddr, TcpListener};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use actix_web::middleware::from_fn;
use actix_web::rt::net::TcpStream;
use actix_web::{App as WebApp, HttpServer, web};
use chrono::Utc;
use deft_depot::{Finder, Pace, RemoteError, Store, StoreError, Web, WebSettings};
use deft_planning::Bytes;
use thiserror::Error;
use tokio::runtime::Runtime;
use tokio::signal::unix::{Signal, SignalKind, signal};
use tokio::sync::OnceCell;

use crate::board::Board;
use crate::catalogue::Catalogue;
use crate::changes::Changes;
use crate::config::{Config, ConfigError, PullConfig};
use crate::database::{self, CONNECT, Database, DatabaseError};
use crate::depot_identity::{self, DepotIdentityError};
use crate::descriptors;
use crate::fleet::pools::Machine;
use crate::fleet::{Fleet, Rules};
use crate::gateway::Gateway;
use crate::guard::guard;
use crate::header_helper::HeaderHelper;
use crate::history;
use crate::keeping::Keeping;
use crate::loads::Loads;
use crate::machine::Memory;
use crate::metrics::Metrics;
use crate::permission::{Peer, Permission, PermissionError, permit};
use crate::presence::{Held, Presence};
use crate::private_files::data_folder;
use crate::processor::Computing;
use crate::pulling::{self, Pulling};
use crate::records::calls::Recorder;
use crate::records::nodes::{self, NodeError};
use crate::routes::events::Events;
use crate::routes::{self, App};
use crate::sources::Sources;
use crate::transfers::Transfers;
use crate::vitals::watch_machine;

/// Longest time that changes get to come to their end when the service stops.
const CHANGES: Duration = Duration::from_secs(20);

/// Why the service could not start.
#[derive(Debug, Error)]
pub enum RunError {
    /// Another service has the data directory.
    #[error("a service is already running{}", place(.0.as_ref()))]
    Running(Option<Presence>),
    /// The data directory cannot be used.
    #[error("the data directory `{}` cannot be used: {source}", path.display())]
    DataDir {
        /// Where.
        path: PathBuf,
        /// Why.
        source: io::Error,
    },
    /// The port is taken.
    #[error(
        "{0} is used by another program; use another port: --listen or DEFT_LISTEN (port 0 means any free port)"
    )]
    PortTaken(SocketAddr),
    /// Listening is not possible.
    #[error("cannot listen on {address}: {source}")]
    Listen {
        /// Where.
        address: SocketAddr,
        /// Why.
        source: io::Error,
    },
    /// There is no records database.
    #[error(transparent)]
    Database(#[from] DatabaseError),
    /// The records cannot be read.
    #[error("the records cannot be read: {0}")]
    Records(#[from] sqlx::Error),
    /// The depot's files cannot be used.
    #[error(transparent)]
    Depot(#[from] StoreError),
    /// The depot is not the one that the records know.
    #[error(transparent)]
    DepotIdentity(#[from] DepotIdentityError),
    /// Nobody can be told apart who may manage.
    #[error(transparent)]
    Permission(#[from] PermissionError),
    /// Nobody knows which node of the records this is.
    #[error(transparent)]
    Node(#[from] NodeError),
    /// Other machines cannot be asked.
    #[error(transparent)]
    Remote(#[from] RemoteError),
    /// Settings that cannot be used.
    #[error(transparent)]
    Config(#[from] ConfigError),
    /// A part of the service panicked.
    #[error("the service failed: {0}; its log has the reason")]
    Broken(String),
    /// The operating system refused something else.
    #[error(transparent)]
    Io(#[from] io::Error),
}

fn place(presence: Option<&Presence>) -> String {
    match presence {
        None => String::new(),
        Some(Presence { pid, address: Some(address), .. }) => {
            format!(" at {address} (process {pid})")
        }
        Some(Presence { pid, address: None, .. }) => {
            format!(" and is just starting (process {pid})")
        }
    }
}

/// What an operator says at a start, and at that one only.
#[derive(Debug, Clone, Copy, Default)]
pub struct StartOptions {
    /// Use the depot's folder as it is, also where it is not the one that the records know.
    pub accept_depot: bool,
}

/// How far a start is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Starting<'s> {
    /// It waits, and for what.
    Waiting(&'s str),
    /// It answers at this address.
    Ready(&'s str),
}

/// Runs the service until it is told to stop. `told` is called with how far its start is.
///
/// # Errors
/// Why it could not start. Nothing is left running then.
pub async fn run(
    config: Config,
    options: StartOptions,
    told: impl Fn(Starting<'_>),
) -> Result<(), RunError> {
    let files = descriptors::raise_limit();
    let data_dir = &config.data_dir;
    let in_data_dir = |source| RunError::DataDir { path: data_dir.clone(), source };
    data_folder(data_dir, database::passing_group(&config)).map_err(in_data_dir)?;
    let held = Held::take(data_dir).map_err(in_data_dir)?.map_err(RunError::Running)?;
    let permission = Permission::open(data_dir, &config.permission)?;
    // Signals are waited for from the first moment, so that a start can be broken off cleanly.
    let mut stop = Stop::new()?;
    let listener = listen(config.listen)?;
    let address = format!("http://{}", listener.local_addr()?);
    let database = tokio::select! {
        database = Database::open(&config, |what| told(Starting::Waiting(what))) => database?,
        () = stop.wait() => return Ok(()),
    };
    let start = Start { options, permission, listener, stop, files };
    let served = serve(&config, start, &database, &held, &address, told).await;
    database.close().await;
    held.leave();
    served
}

/// What a start has before it serves.
struct Start {
    options: StartOptions,
    permission: Permission,
    listener: TcpListener,
    stop: Stop,
    /// How many files may be open, where that is limited.
    files: Option<u64>,
}

async fn serve(
    config: &Config,
    start: Start,
    database: &Database,
    held: &Held,
    address: &str,
    told: impl Fn(Starting<'_>),
) -> Result<(), RunError> {
    let Start { options, permission, listener, mut stop, files } = start;
    let pool = &database.pool;
    let folder = config.data_dir.join("depot");
    let is_private = config.database.url.is_none();
    let depot = deft_depot::identity(&folder)?;
    let node = patiently(|| nodes::id(pool, &config.data_dir, is_private, depot)).await?;
    let node_name = rustix::system::uname().nodename().to_string_lossy().into_owned();
    patiently(|| nodes::introduce(pool, node, &node_name)).await?;
    let catalogue = Arc::new(patiently(|| Catalogue::open(pool.clone(), node)).await?);
    let memory = Memory::read(Path::new("/"))?;
    if let Some(group) = memory.group {
        tracing::info!("a control group allows {} of the machine's memory", Bytes(group));
    }
    let computing = Computing::found(config).await;
    let machine = Machine {
        usable: Bytes(memory.usable()),
        host_limit: config.host_limit(memory.usable())?,
        accelerators: config.accelerators()?,
        max_instances: config.loading.max_instances,
        computing: computing.clone(),
    };
    let rules = Rules {
        evictable: config.loading.evict,
        queue: config.calls.queue,
        hang: Duration::from_secs(config.loading.hang_seconds),
        evict_busy_after: Duration::from_secs(config.loading.evict_busy_seconds),
    };
    let (fleet, mut fleet_ended) = Fleet::start(machine, rules);
    let metrics = Metrics::new();
    let vitals = watch_machine()?;
    let history =
        history::keep(pool.clone(), node, fleet.clone(), vitals.clone(), config.calls.max_records);
    let history = tokio::spawn(history);
    let (recorder, recording) = Recorder::start(pool.clone(), node, metrics.clone());
    let loads = Arc::new(Loads {
        catalogue: Arc::clone(&catalogue),
        fleet: fleet.clone(),
        database: pool.clone(),
        node,
        on_demand: config.loading.on_demand,
        idle: config.loading.idle,
        wait: Duration::from_secs(config.loading.wait_seconds),
    });
    let kept = catalogue.all().iter().filter(|found| found.stored).count();
    let accept = options.accept_depot;
    patiently(|| depot_identity::check(pool, node, &folder, kept, accept)).await?;
    let store = Arc::new(Store::open(&folder)?);
    patiently(|| nodes::has_depot(pool, node, store.id())).await?;
    let threads = TransferThreads::start()?;
    let transfers = Transfers::new(Some((pool.clone(), node)), threads.handle());
    let finder = finder(config)?;
    let pulling = Pulling::new(pulling::Parts {
        sources: patiently(|| Sources::open(pool.clone(), node, &config.data_dir)).await?,
        finder,
        pace: config.pull_limit()?.map_or_else(Pace::unlimited, Pace::limited),
        store: Arc::clone(&store),
        catalogue: Arc::clone(&catalogue),
        transfers: transfers.clone(),
        fleet: fleet.clone(),
        memory_speed: OnceCell::new(),
    });
    let keeping = Keeping {
        store,
        folder,
        catalogue: Arc::clone(&catalogue),
        transfers,
        fleet: fleet.clone(),
        pulling: pulling.clone(),
    };
    if let Err(problem) = keeping.reconcile().await {
        tracing::error!("the depot and its records cannot be compared: {}", problem.detail);
    }
    patiently(|| pulling.go_on()).await?;
    patiently(|| loads.restore()).await?;
    tokio::spawn(forget_passing(Arc::clone(&catalogue), fleet.clone()));
    let board = Board::new();
    let changes = Changes::here();
    let app = web::Data::new(App {
        catalogue,
        fleet: fleet.clone(),
        changes: changes.clone(),
        keeping,
        pulling,
        gateway: Gateway { loads: Arc::clone(&loads), recorder, board: board.clone() },
        board,
        permission,
        events: Events::within(files),
        metrics,
        machine: vitals,
        computing: computing.report,
        heartbeat: Duration::from_secs(config.calls.heartbeat_seconds),
        status_held: Duration::from_secs(config.calls.hold_status_seconds),
        loads,
        database: pool.clone(),
        database_up: database.watch(),
        database_kind: database.kind(),
        node,
        node_name,
        address: address.to_owned(),
        started_at: Utc::now(),
    });
    let writing = tokio::spawn(routes::events::write(app.clone()));
    let drain = Duration::from_secs(config.loading.drain_seconds);
    let server = HttpServer::new(move || {
        // The guard, wrapped last, looks first.
        WebApp::new()
            .app_data(app.clone())
            .wrap(from_fn(permit))
            .wrap(from_fn(guard))
            .configure(routes::configure)
    })
    // Who is at the other end is asked once for each connection.
    .on_connect(|connection, data| {
        if let Some(connection) = connection.downcast_ref::<TcpStream>() {
            data.insert(Peer::of(connection));
        }
    })
    .workers(2)
    .disable_signals()
    // A caller who hangs up ends his call at once, also where he only closed his sending half.
    .h1_allow_half_closed(false)
    .shutdown_timeout(1)
    .listen(listener)?
    .run();
    let handle = server.handle();
    let serving = tokio::spawn(server);
    held.announce(address)?;
    tracing::info!("ready at {address}");
    told(Starting::Ready(address));
    let mut failed = None;
    tokio::select! {
        () = stop.wait() => {}
        ended = &mut fleet_ended => {
            // Nothing can be loaded or answered any more: whoever watches over the service starts it again.
            let why = ended.err().map_or_else(|| "it ended".to_owned(), |error| error.to_string());
            tracing::error!("the task that manages all models failed: {why}");
            failed = Some(RunError::Broken(why));
        }
    }
    tracing::info!("stopping; running calls have up to {} s to finish", drain.as_secs());
    tokio::select! {
        // New calls are refused from now on; those that run are answered.
        () = fleet.stop(drain) => {}
        () = stop.wait() => {
            tracing::warn!("second stop signal: running calls are cancelled");
            fleet.stop(Duration::ZERO).await;
        }
    }
    // What has begun is brought to its end.
    if tokio::time::timeout(CHANGES, changes.finish()).await.is_err() {
        tracing::warn!("changes were still running after {} s", CHANGES.as_secs());
    }
    history.abort();
    writing.abort();
    handle.stop(true).await;
    let _ = serving.await;
    drop(threads);
    // The recorder is gone with the app; its last rows are written before the database closes.
    let _ = tokio::time::timeout(Duration::from_secs(5), recording).await;
    tracing::info!("stopped");
    failed.map_or(Ok(()), Err)
}

/// The threads that transfers work on.
struct TransferThreads(Option<Runtime>);

impl TransferThreads {
    fn start() -> io::Result<Self> {
        let mut threads = tokio::runtime::Builder::new_multi_thread();
        threads.worker_threads(2).thread_name("transfers").enable_all().build().map(Some).map(Self)
    }

    fn handle(&self) -> tokio::runtime::Handle {
        self.0.as_ref().map_or_else(tokio::runtime::Handle::current, |it| it.handle().clone())
    }
}

/// What goes on is broken off, as at a crash: the next start goes on with it.
impl Drop for TransferThreads {
    fn drop(&mut self) {
        if let Some(runtime) = self.0.take() {
            runtime.shutdown_background();
        }
    }
}

/// Errors that may only say that the machine stands still for a while.
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

/// Reads what a start needs; where the machine stands still for a while the start does too, and does not
/// fail.
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

/// Forgets files that were there for the time of a call, when their instances have gone.
async fn forget_passing(catalogue: Arc<Catalogue>, fleet: Fleet) {
    let mut reports = fleet.reports();
    let mut seen = BTreeSet::new();
    while reports.changed().await.is_ok() {
        let instances = reports.borrow_and_update().instances.clone();
        let loaded = instances.into_iter().map(|instance| instance.name).collect();
        catalogue.forget_passing(&loaded, &mut seen);
    }
}

fn listen(address: SocketAddr) -> Result<TcpListener, RunError> {
    let listener = TcpListener::bind(address).map_err(|source| match source.kind() {
        io::ErrorKind::AddrInUse => RunError::PortTaken(address),
        _ => RunError::Listen { address, source },
    })?;
    listener.set_nonblocking(true)?;
    Ok(listener)
}

/// Signals that tell the service to stop.
struct Stop {
    terminate: Signal,
    interrupt: Signal,
}

impl Stop {
    fn new() -> io::Result<Self> {
        Ok(Self {
            terminate: signal(SignalKind::terminate())?,
            interrupt: signal(SignalKind::interrupt())?,
        })
    }

    /// Waits for one. Cancel safe.
    async fn wait(&mut self) {
        tokio::select! {
            _ = self.terminate.recv() => {}
            _ = self.interrupt.recv() => {}
        }
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
        assert_eq!(asked, 1, "other errors are told at once");
    }
}
