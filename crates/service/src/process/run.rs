//! The service from start to stop.

use std::io;
use std::net::{SocketAddr, TcpListener};
use std::path::PathBuf;
use std::time::Duration;

use actix_web::dev::Server;
use actix_web::middleware::from_fn;
use actix_web::rt::net::TcpStream;
use actix_web::{App as WebApp, HttpServer, web};
use deft_depot::{RemoteError, StoreError};
use thiserror::Error;
use tokio::signal::unix::{Signal, SignalKind, signal};
use tokio::task::JoinHandle;

use super::descriptors;
use super::opening::{Opened, Opening};
use super::presence::{Held, Presence};
use super::private_files::data_folder;
use crate::batches::OpenError;
use crate::config::{Config, ConfigError};
use crate::database::{self, Database, DatabaseError};
use crate::depot::identity::DepotIdentityError;
use crate::permission::guard::guard;
use crate::permission::{Peer, Permission, PermissionError, permit};
use crate::records::nodes::NodeError;
use crate::routes::events::Events;
use crate::routes::{self, App};

/// Longest wait for running changes when the service stops.
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
    /// The depot is another one than in the records.
    #[error(transparent)]
    DepotIdentity(#[from] DepotIdentityError),
    /// Batches cannot be opened.
    #[error(transparent)]
    Batches(#[from] OpenError),
    /// Permissions cannot be set up.
    #[error(transparent)]
    Permission(#[from] PermissionError),
    /// The node's identity cannot be used.
    #[error(transparent)]
    Node(#[from] NodeError),
    /// The HTTP client cannot be set up.
    #[error(transparent)]
    Remote(#[from] RemoteError),
    /// A setting is invalid.
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

/// Options of one start.
#[derive(Debug, Clone, Copy, Default)]
pub struct StartOptions {
    /// Use the depot folder even if it is not the one in the records.
    pub accept_depot: bool,
}

/// Progress of a start.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Starting<'s> {
    /// It waits for this.
    Waiting(&'s str),
    /// The service answers at this address.
    Ready(&'s str),
}

/// Runs the service until it receives a stop signal. `progress` receives the progress of the start.
///
/// # Errors
/// Why it could not start. Nothing is left running then.
pub async fn run(
    config: Config,
    options: StartOptions,
    progress: impl Fn(Starting<'_>),
) -> Result<(), RunError> {
    let files = descriptors::raise_limit();
    let data_dir = &config.data_dir;
    let in_data_dir = |source| RunError::DataDir { path: data_dir.clone(), source };
    data_folder(data_dir, database::passing_group(&config)).map_err(in_data_dir)?;
    let held = Held::take(data_dir).map_err(in_data_dir)?.map_err(RunError::Running)?;
    let permission = Permission::open(data_dir, &config.permission)?;
    // Signals are handled from the first moment, so that a start can be cancelled cleanly.
    let mut stop = Stop::new()?;
    let listener = listen(config.listen)?;
    let address = format!("http://{}", listener.local_addr()?);
    let database = tokio::select! {
        database = Database::open(&config, |what| progress(Starting::Waiting(what))) => database?,
        () = stop.wait() => return Ok(()),
    };
    let start = Start { permission, listener, stop, files };
    let opening = Opening { address: &address, accept_depot: options.accept_depot };
    let served = serve(&config, start, &database, &held, opening, progress).await;
    database.close().await;
    held.leave();
    served
}

/// The parts of the service before it serves requests.
struct Start {
    permission: Permission,
    listener: TcpListener,
    stop: Stop,
    /// Limit of open files, if there is one.
    files: Option<u64>,
}

async fn serve(
    config: &Config,
    start: Start,
    database: &Database,
    held: &Held,
    opening: Opening<'_>,
    progress: impl Fn(Starting<'_>),
) -> Result<(), RunError> {
    let Start { permission, listener, mut stop, files } = start;
    let address = opening.address;
    let mut opened = opening.open(config, database, permission, Events::within(files)).await?;
    let writing = tokio::spawn(routes::events::write(opened.app.clone()));
    tokio::task::spawn_blocking(routes::fields::prepare);
    let server = server(opened.app.clone(), listener)?;
    let handle = server.handle();
    let serving = tokio::spawn(server);
    held.announce(address)?;
    tracing::info!("ready at {address}");
    progress(Starting::Ready(address));
    let ended = until_ended(&mut stop, &mut opened.fleet_ended).await;
    // A batch keeps its place: the next start continues it.
    opened.batches.stop().await;
    drain(config, &opened.app, &mut stop).await;
    opened.history.abort();
    writing.abort();
    handle.stop(true).await;
    let _ = serving.await;
    let Opened { app, threads, recording, .. } = opened;
    drop((app, threads));
    // The recorder is gone with the app; its last rows are written before the database closes.
    let _ = tokio::time::timeout(Duration::from_secs(5), recording).await;
    tracing::info!("stopped");
    ended
}

fn server(app: web::Data<App>, listener: TcpListener) -> io::Result<Server> {
    let server = HttpServer::new(move || {
        // The guard is wrapped last, so it sees requests first.
        WebApp::new()
            .app_data(app.clone())
            .wrap(from_fn(permit))
            .wrap(from_fn(guard))
            .configure(routes::configure)
    })
    // The user at the other end is determined once for each connection.
    .on_connect(|connection, data| {
        if let Some(connection) = connection.downcast_ref::<TcpStream>() {
            data.insert(Peer::of(connection));
        }
    })
    .workers(2)
    .disable_signals()
    // A disconnected caller cancels its call at once, even if it only closed its sending half.
    .h1_allow_half_closed(false)
    .shutdown_timeout(1)
    .listen(listener)?;
    Ok(server.run())
}

/// Waits for a signal to stop, or for the failure of the fleet's task, without which nothing can be loaded or answered;
/// then a supervisor restarts the service.
async fn until_ended(stop: &mut Stop, fleet_ended: &mut JoinHandle<()>) -> Result<(), RunError> {
    tokio::select! {
        () = stop.wait() => Ok(()),
        ended = fleet_ended => {
            let why = ended.err().map_or_else(|| "it ended".to_owned(), |error| error.to_string());
            tracing::error!("the task that manages all models failed: {why}");
            Err(RunError::Broken(why))
        }
    }
}

/// Waits until running calls and changes have finished; new calls are refused.
async fn drain(config: &Config, app: &App, stop: &mut Stop) {
    let longest = Duration::from_secs(config.loading.drain_seconds);
    tracing::info!("stopping; running calls have up to {} s to finish", longest.as_secs());
    let fleet = &app.fleet;
    tokio::select! {
        () = fleet.stop(longest) => {}
        () = stop.wait() => {
            tracing::warn!("second stop signal: running calls are cancelled");
            fleet.stop(Duration::ZERO).await;
        }
    }
    if tokio::time::timeout(CHANGES, app.changes.finish()).await.is_err() {
        tracing::warn!("changes were still running after {} s", CHANGES.as_secs());
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

/// Signals that stop the service.
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

    /// Waits for a signal. Cancel safe.
    async fn wait(&mut self) {
        tokio::select! {
            _ = self.terminate.recv() => {}
            _ = self.interrupt.recv() => {}
        }
    }
}
