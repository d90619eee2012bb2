//! The records database: a private PostgreSQL cluster of our own, or one the operator named.

mod private_cluster;

use std::path::Path;
use std::time::Duration;

use sqlx::PgPool;
use sqlx::postgres::{PgConnectOptions, PgPoolOptions};
use thiserror::Error;

use crate::config::Config;
pub(crate) use private_cluster::{ClusterError, PrivateCluster};

/// Longest time a connection is waited for.
const CONNECT: Duration = Duration::from_secs(10);
/// Longest time a call waits for a connection once the service runs.
const ACQUIRE: Duration = Duration::from_secs(3);
/// Oldest server the records work with.
const OLDEST_SERVER: i32 = 13;

/// Why there is no records database.
#[derive(Debug, Error)]
pub enum DatabaseError {
    /// The private cluster could not be made or started.
    #[error(transparent)]
    Cluster(#[from] ClusterError),
    /// The address is none.
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
    /// The tables could not be brought up to date.
    #[error("{0}")]
    Migrate(String),
}

/// An open records database.
pub(crate) struct Database {
    /// Connections.
    pub pool: PgPool,
    /// The private cluster, where it is ours; stops with [`Database::close`].
    cluster: Option<PrivateCluster>,
}

impl Database {
    /// Opens the database and brings its tables up to date.
    ///
    /// # Errors
    /// Why that is not possible, with a way out.
    pub(crate) async fn open(config: &Config) -> Result<Self, DatabaseError> {
        let (options, cluster) = match &config.database.url {
            Some(url) => (url.parse().map_err(DatabaseError::Address)?, None),
            None => {
                let folder = config.data_dir.join("database");
                let cluster = start_private(&folder).await?;
                (cluster.connect_options(), Some(cluster))
            }
        };
        let pool = connect(options).await?;
        let database = Self { pool, cluster };
        database.migrate().await?;
        Ok(database)
    }

    /// `private` or `external`.
    #[must_use]
    pub(crate) fn kind(&self) -> &'static str {
        if self.cluster.is_some() {
            "private"
        } else {
            "external"
        }
    }

    async fn migrate(&self) -> Result<(), DatabaseError> {
        let version: i32 =
            sqlx::query_scalar("select current_setting('server_version_num')::int / 10000")
                .fetch_one(&self.pool)
                .await
                .map_err(|error| DatabaseError::Migrate(error.to_string()))?;
        if version < OLDEST_SERVER {
            return Err(DatabaseError::Old(version));
        }
        sqlx::migrate!().run(&self.pool).await.map_err(|error| DatabaseError::Migrate(match error {
            sqlx::migrate::MigrateError::VersionMissing(version) => format!(
                "the records were written by a newer version of Deft Harbor (step {version} is not \
                 known here); run that version, or set another data directory"
            ),
            other => format!("the records' tables could not be brought up to date: {other}"),
        }))
    }

    /// Closes all connections and stops the private cluster.
    pub(crate) async fn close(self) {
        self.pool.close().await;
        if let Some(cluster) = self.cluster {
            let stopped = tokio::task::spawn_blocking(move || cluster.stop()).await;
            if let Ok(Err(error)) = stopped {
                tracing::warn!("the records database did not stop cleanly: {error}");
            }
        }
    }
}

async fn start_private(folder: &Path) -> Result<PrivateCluster, ClusterError> {
    let folder = folder.to_owned();
    tokio::task::spawn_blocking(move || PrivateCluster::start(&folder))
        .await
        .unwrap_or_else(|panic| std::panic::resume_unwind(panic.into_panic()))
}

/// Connects, trying again while the server is still starting.
async fn connect(options: PgConnectOptions) -> Result<PgPool, DatabaseError> {
    let place = format!("{}:{}", options.get_host(), options.get_port());
    let pool = PgPoolOptions::new()
        .max_connections(8)
        .acquire_timeout(ACQUIRE)
        .connect_lazy_with(options);
    let deadline = tokio::time::Instant::now() + CONNECT;
    loop {
        match pool.acquire().await {
            Ok(_) => return Ok(pool),
            Err(source) if tokio::time::Instant::now() >= deadline => {
                return Err(DatabaseError::Connect { place, source });
            }
            Err(_) => tokio::time::sleep(Duration::from_millis(30)).await,
        }
    }
}
