//! The records database: a private PostgreSQL cluster, or a server that the operator names.

mod cluster_error;
mod private_cluster;

use std::path::Path;
use std::sync::Arc;
use std::time::Duration;

use parking_lot::Mutex;
use sqlx::pool::PoolConnection;
use sqlx::postgres::{PgConnectOptions, PgPoolOptions};
use sqlx::{PgPool, Postgres};
use thiserror::Error;
use tokio::sync::watch;
use tokio::task::JoinHandle;
use tokio::time::Instant;

use crate::config::Config;
pub(crate) use cluster_error::ClusterError;
pub(crate) use private_cluster::PrivateCluster;

/// Longest wait for a connection while the server makes no progress.
pub(crate) const CONNECT: Duration = Duration::from_secs(30);
/// Time between two messages about a recovery.
const REPORT_EVERY: Duration = Duration::from_secs(10);
/// Longest time of a statement, and longest wait for a lock.
const STATEMENT: Duration = Duration::from_secs(10);
/// Longest wait for an answer, even from a server that hangs.
pub(crate) const ANSWER: Duration = Duration::from_secs(15);
/// Longest wait of a call for a connection while the service runs.
const ACQUIRE: Duration = Duration::from_secs(3);
/// Time between two checks of the private cluster.
const LOOK_AFTER: Duration = Duration::from_secs(1);
/// Oldest supported server version.
const OLDEST_SERVER: i32 = 13;

/// Why the records database cannot be used.
#[derive(Debug, Error)]
pub enum DatabaseError {
    /// The private cluster could not be made or started.
    #[error(transparent)]
    Cluster(#[from] ClusterError),
    /// The address is invalid.
    #[error("`database.url` is not an address of a PostgreSQL server: {0}")]
    Address(sqlx::Error),
    /// The server does not answer.
    #[error("the records database at {place} does not answer: {source}")]
    Connect {
        /// Host and port.
        place: String,
        /// Why.
        source: sqlx::Error,
    },
    /// The server is too old.
    #[error("the records database is PostgreSQL {0}; {OLDEST_SERVER} or newer is needed")]
    Old(i32),
    /// The tables could not be migrated.
    #[error("{0}")]
    Migrate(String),
}

/// An open records database.
pub(crate) struct Database {
    /// Connections.
    pub(crate) pool: PgPool,
    /// The private cluster, if there is one; it stops with [`Database::close`].
    cluster: Option<Kept>,
}

/// A supervised private cluster.
struct Kept {
    cluster: Arc<Mutex<PrivateCluster>>,
    keeper: JoinHandle<()>,
}

impl Kept {
    /// Supervises a cluster: restarts the server if it ends by itself.
    fn new(cluster: PrivateCluster) -> Self {
        let cluster = Arc::new(Mutex::new(cluster));
        let looked_at = Arc::clone(&cluster);
        let keeper = tokio::spawn(async move {
            loop {
                tokio::time::sleep(LOOK_AFTER).await;
                match on_cluster(&looked_at, PrivateCluster::start_again_if_ended).await {
                    Ok(false) => {}
                    Ok(true) => {
                        tracing::error!("the records database ended and is restarted")
                    }
                    Err(error) => {
                        tracing::error!("the records database cannot be started: {error}")
                    }
                }
            }
        });
        Self { cluster, keeper }
    }

    async fn stop(self) {
        self.keeper.abort();
        if let Err(error) = on_cluster(&self.cluster, PrivateCluster::stop).await {
            tracing::warn!("the records database did not stop cleanly: {error}");
        }
    }
}

/// Runs a blocking operation on the cluster, outside of the worker threads.
async fn on_cluster<T: Send + 'static>(
    cluster: &Arc<Mutex<PrivateCluster>>,
    act: impl FnOnce(&mut PrivateCluster) -> Result<T, ClusterError> + Send + 'static,
) -> Result<T, ClusterError> {
    let cluster = Arc::clone(cluster);
    tokio::task::spawn_blocking(move || act(&mut cluster.lock()))
        .await
        .unwrap_or_else(|panic| std::panic::resume_unwind(panic.into_panic()))
}

impl Database {
    /// Opens the database and migrates its tables.
    ///
    /// # Errors
    /// Why it cannot be opened, with a way out.
    pub(crate) async fn open(
        config: &Config,
        report: impl Fn(&str),
    ) -> Result<Self, DatabaseError> {
        let (options, cluster) = match &config.database.url {
            Some(url) => (url.parse().map_err(DatabaseError::Address)?, None),
            None => {
                let folder = config.data_dir.join("database");
                let cluster = start_private(&folder).await?;
                (cluster.connect_options(), Some(Kept::new(cluster)))
            }
        };
        let kept = cluster.as_ref().map(|kept| Arc::clone(&kept.cluster));
        let work = move || {
            let cluster = kept.as_ref()?.lock();
            Some(cluster.work())
        };
        let (pool, connection) = connect(options, work, report).await?;
        let database = Self { pool, cluster };
        migrate(connection).await?;
        Ok(database)
    }

    /// Whether the database answers. It is checked every second, so that no caller waits for the check.
    #[must_use]
    pub(crate) fn watch(&self) -> watch::Receiver<bool> {
        let (publish, answers) = watch::channel(true);
        let pool = self.pool.clone();
        tokio::spawn(async move {
            while !publish.is_closed() && !pool.is_closed() {
                let question = sqlx::query("select 1").execute(&pool);
                let up = tokio::time::timeout(LOOK_AFTER, question).await.is_ok_and(|r| r.is_ok());
                publish.send_if_modified(|before| std::mem::replace(before, up) != up);
                tokio::time::sleep(LOOK_AFTER).await;
            }
        });
        answers
    }

    /// `private` or `external`.
    #[must_use]
    pub(crate) fn kind(&self) -> &'static str {
        if self.cluster.is_some() { "private" } else { "external" }
    }

    /// Closes all connections and stops the private cluster.
    pub(crate) async fn close(self) {
        self.pool.close().await;
        if let Some(cluster) = self.cluster {
            cluster.stop().await;
        }
    }
}

/// Group of the user of the private database, if it is not our own. That user must pass through the data directory.
pub(crate) fn passing_group(config: &Config) -> Option<u32> {
    if config.database.url.is_some() {
        return None;
    }
    private_cluster::servant_group()
}

async fn start_private(folder: &Path) -> Result<PrivateCluster, ClusterError> {
    let folder = folder.to_owned();
    tokio::task::spawn_blocking(move || PrivateCluster::start(&folder))
        .await
        .unwrap_or_else(|panic| std::panic::resume_unwind(panic.into_panic()))
}

/// Migrates the tables, on a connection without a time limit, so that a slow disk does not prevent a start.
async fn migrate(mut connection: PoolConnection<Postgres>) -> Result<(), DatabaseError> {
    let version: i32 =
        sqlx::query_scalar("select current_setting('server_version_num')::int / 10000")
            .fetch_one(&mut *connection)
            .await
            .map_err(|error| DatabaseError::Migrate(error.to_string()))?;
    if version < OLDEST_SERVER {
        return Err(DatabaseError::Old(version));
    }
    let migrated = sqlx::migrate!().run(&mut *connection).await;
    migrated.map_err(|error| DatabaseError::Migrate(match error {
        sqlx::migrate::MigrateError::VersionMissing(version) => format!(
            "the records were written by a newer version of Deft Harbor (migration {version}); run that \
             version, or use another data directory"
        ),
        other => format!("the tables of the records cannot be migrated: {other}"),
    }))
}

/// Connects, and retries while the server is starting. A recovery after a crash may take as long as it makes progress:
/// `work` is the processor time of the server, if known. `report` is called regularly with what the start waits for.
async fn connect(
    options: PgConnectOptions,
    work: impl Fn() -> Option<u64>,
    report: impl Fn(&str),
) -> Result<(PgPool, PoolConnection<Postgres>), DatabaseError> {
    let place = match options.get_socket() {
        Some(_) => "its socket".to_owned(),
        None => format!("{}:{}", options.get_host(), options.get_port()),
    };
    let milliseconds = STATEMENT.as_millis().to_string();
    let options = options.options([
        ("statement_timeout", &milliseconds),
        ("lock_timeout", &milliseconds),
        ("idle_in_transaction_session_timeout", &milliseconds),
    ]);
    let pool =
        PgPoolOptions::new().max_connections(8).acquire_timeout(ACQUIRE).connect_lazy_with(options);
    let began = Instant::now();
    let (mut deadline, mut last_report, mut done) = (began + CONNECT, began, work());
    loop {
        match pool.acquire().await {
            Ok(connection) => return Ok((pool, connection)),
            Err(source) if Instant::now() >= deadline => {
                return Err(DatabaseError::Connect { place, source });
            }
            Err(_) => tokio::time::sleep(Duration::from_millis(30)).await,
        }
        let now = work();
        if now > done {
            (done, deadline) = (now, Instant::now() + CONNECT);
        }
        if last_report.elapsed() >= REPORT_EVERY {
            last_report = Instant::now();
            let seconds = began.elapsed().as_secs();
            let what = match now {
                Some(_) => {
                    format!("the database is recovering after a crash ({seconds} s so far)")
                }
                None => {
                    format!("the database at {place} has not answered for {seconds} s")
                }
            };
            tracing::info!("{what}");
            report(&what);
        }
    }
}

/// Waits for an answer of the database, at most [`ANSWER`], because a hanging server never answers.
///
/// # Errors
/// Those of the statement, and a timeout.
pub(crate) async fn in_time<T>(question: impl Future<Output = sqlx::Result<T>>) -> sqlx::Result<T> {
    let answered = tokio::time::timeout(ANSWER, question).await;
    answered.unwrap_or_else(|_| {
        let what = format!("no answer within {} s", ANSWER.as_secs());
        Err(sqlx::Error::Io(std::io::Error::new(std::io::ErrorKind::TimedOut, what)))
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test(start_paused = true)]
    async fn a_server_that_stands_still_is_not_waited_for_without_end() {
        let began = Instant::now();
        let never = in_time(std::future::pending::<sqlx::Result<()>>()).await;
        assert!(matches!(never, Err(sqlx::Error::Io(_))), "{never:?}");
        assert_eq!(began.elapsed(), ANSWER);
        assert_eq!(in_time(async { Ok(7) }).await.unwrap(), 7);
    }

    #[tokio::test(start_paused = true)]
    async fn a_recovery_may_take_as_long_as_it_makes_progress_and_no_longer() {
        // No server listens there.
        let nobody = || PgConnectOptions::new().host("127.0.0.1").port(1).username("deft");
        let began = Instant::now();
        let working = move || Some(began.elapsed().as_secs().min(300));
        let reports = std::cell::Cell::new(0);
        let report = |what: &str| {
            assert!(what.contains("is recovering after a crash"), "{what}");
            reports.set(reports.get() + 1);
        };
        let given_up = connect(nobody(), working, report).await;
        assert!(matches!(given_up, Err(DatabaseError::Connect { .. })));
        let waited = began.elapsed();
        assert!(waited >= Duration::from_secs(300) + CONNECT, "{waited:?}");
        assert!(reports.get() >= 20, "reported {} times", reports.get());
        let began = Instant::now();
        assert!(connect(nobody(), || Some(7), |_| {}).await.is_err());
        let waited = began.elapsed();
        assert!(waited >= CONNECT && waited < CONNECT * 2, "{waited:?}");
    }
}
