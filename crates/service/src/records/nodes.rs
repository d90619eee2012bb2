//! The node this service is.

use std::io::{self, Read};
use std::path::{Path, PathBuf};

use sqlx::{PgExecutor, PgPool};
use thiserror::Error;
use uuid::Uuid;

use crate::database::in_time;
use crate::process::private_files::write_whole;

/// The file with the node's id, in its data directory.
const FILE: &str = "node-id";
/// Longest of those in bytes.
const LONGEST: u64 = 1024;

/// Why it is not known which node this is. Nothing was changed.
#[derive(Debug, Error)]
pub enum NodeError {
    /// The file cannot be used.
    #[error(
        "`{}` holds the id of this node in the records and cannot be used: {why}. {}", path.display(),
        ways(path, known)
    )]
    Unusable {
        /// The file.
        path: PathBuf,
        /// Why.
        why: String,
        /// The nodes that the records know.
        known: Vec<(Uuid, String)>,
    },
    /// The file cannot be written.
    #[error("`{}` cannot be written: {source}", path.display())]
    Io {
        /// The file.
        path: PathBuf,
        /// Why.
        source: io::Error,
    },
    /// The records cannot be read.
    #[error("the records cannot be read: {0}")]
    Records(#[from] sqlx::Error),
}

/// What to do about a file that cannot be used.
fn ways(path: &Path, known: &[(Uuid, String)]) -> String {
    let known: Vec<String> = known.iter().map(|(id, name)| format!("{id} ({name})")).collect();
    format!(
        "Restore it from a backup, or write the right id into it. Nodes in the records: {}. To start with empty \
         records instead, move `{}` away and use another database",
        if known.is_empty() { "no node".to_owned() } else { known.join(", ") },
        path.display()
    )
}

/// The node's id, kept in its data directory. Where the file is gone, it is the node that the records know
/// to have this depot, or the only one that private records know; where there is none, it is a new one. In
/// all other cases nobody can know.
///
/// # Errors
/// The file cannot be read or written, or it is gone and the records know several nodes.
pub(crate) async fn id(
    database: &PgPool,
    data_dir: &Path,
    is_private: bool,
    depot: Option<Uuid>,
) -> Result<Uuid, NodeError> {
    let path = data_dir.join(FILE);
    let stored = match read(&path) {
        Ok(Some(text)) => match text.trim().parse() {
            Ok(id) => return Ok(id),
            Err(_) if text.trim().is_empty() => "it is empty".to_owned(),
            Err(_) => "it has no id".to_owned(),
        },
        Ok(None) => String::new(),
        Err(error) => error.to_string(),
    };
    let all = all(database).await?;
    let of_depot =
        all.iter().find(|known| depot.is_some() && known.2 == depot).map(|known| known.0);
    let known: Vec<(Uuid, String)> = all.into_iter().map(|(id, name, _)| (id, name)).collect();
    let id = match (&stored[..], of_depot, &known[..]) {
        ("", Some(id), _) => {
            tracing::warn!(
                "the node id in `{}` was missing; it was restored from the records",
                path.display()
            );
            id
        }
        ("", None, []) => Uuid::new_v4(),
        // Other nodes may share records that are not ours alone.
        ("", None, _) if !is_private => Uuid::new_v4(),
        ("", None, [(only, name)]) => {
            tracing::warn!(
                "`{}` did not exist: according to the records this is `{name}`",
                path.display()
            );
            *only
        }
        ("", None, _) => {
            return Err(NodeError::Unusable { path, why: "it does not exist".to_owned(), known });
        }
        (why, ..) => return Err(NodeError::Unusable { path, why: why.to_owned(), known }),
    };
    write_whole(&path, format!("{id}\n").as_bytes())
        .map_err(|source| NodeError::Io { path, source })?;
    Ok(id)
}

fn read(path: &Path) -> io::Result<Option<String>> {
    let file = match std::fs::File::open(path) {
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(None),
        opened => opened?,
    };
    let mut text = String::new();
    file.take(LONGEST).read_to_string(&mut text)?;
    Ok(Some(text))
}

/// Nodes with their names and depots.
async fn all(database: &PgPool) -> sqlx::Result<Vec<(Uuid, String, Option<Uuid>)>> {
    let all = sqlx::query_as("select id, name, depot from nodes order by first_seen");
    in_time(all.fetch_all(database)).await
}

/// Identity of the depot of a node's records, if recorded.
pub(crate) async fn depot(database: impl PgExecutor<'_>, node: Uuid) -> sqlx::Result<Option<Uuid>> {
    let found = sqlx::query_scalar("select depot from nodes where id = $1").bind(node);
    Ok(in_time(found.fetch_optional(database)).await?.flatten())
}

/// Records which depot a node has.
pub(crate) async fn has_depot(
    database: impl PgExecutor<'_>,
    node: Uuid,
    depot: Uuid,
) -> sqlx::Result<()> {
    let update = sqlx::query("update nodes set depot = $2 where id = $1").bind(node).bind(depot);
    in_time(update.execute(database)).await.map(|_| ())
}

/// Makes the node known.
pub(crate) async fn introduce(
    database: impl PgExecutor<'_>,
    id: Uuid,
    name: &str,
) -> sqlx::Result<()> {
    in_time(
        sqlx::query(
            "insert into nodes (id, name) values ($1, $2)
         on conflict (id) do update set name = excluded.name",
        )
        .bind(id)
        .bind(name)
        .execute(database),
    )
    .await
    .map(|_| ())
}
