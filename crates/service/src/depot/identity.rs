//! Whether the depot's folder is the one that the records know. A depot that is not mounted looks like an
//! empty one; to take it for that would be to forget every model in it.

use std::path::{Path, PathBuf};

use deft_depot::{StoreError, identity};
use sqlx::PgPool;
use thiserror::Error;
use uuid::Uuid;

use crate::records::nodes;

/// Why the depot's folder is not used. Nothing was changed or forgotten.
#[derive(Debug, Error)]
pub enum DepotIdentityError {
    /// There is no depot where the records know one.
    #[error(
        "the depot folder `{}` is empty or has no marker, but the records list {kept} models of depot {known}. \
         Mount or restore it and start again; or use the folder as it is, without those models: deft service \
         start --accept-depot", folder.display()
    )]
    NotThere {
        /// The folder.
        folder: PathBuf,
        /// The depot that the records know.
        known: String,
        /// Models that the records know in it.
        kept: usize,
    },
    /// It is another depot.
    #[error(
        "`{}` holds depot {found}, but the records belong to depot {known} with {kept} models. Mount the right \
         depot and start again; or use this one, without the models that are not in it: deft service start \
         --accept-depot", folder.display()
    )]
    Other {
        /// The folder.
        folder: PathBuf,
        /// The depot that is there.
        found: Uuid,
        /// The depot that the records know.
        known: Uuid,
        /// Models that the records know in it.
        kept: usize,
    },
    /// The marker cannot be used.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// The records cannot be read.
    #[error("the records cannot be read: {0}")]
    Records(#[from] sqlx::Error),
}

/// Refuses a folder that is not the depot which the records know; they know `kept` models in it.
///
/// # Errors
/// It is another one, or none, and the operator did not `accept` that.
pub(crate) async fn check(
    database: &PgPool,
    node: Uuid,
    folder: &Path,
    kept: usize,
    accept: bool,
) -> Result<(), DepotIdentityError> {
    let found = identity(folder)?;
    let known = nodes::depot(database, node).await?;
    if accept {
        return Ok(());
    }
    let folder = folder.to_owned();
    match (known, found) {
        (Some(known), Some(found)) if known != found => {
            Err(DepotIdentityError::Other { folder, found, known, kept })
        }
        (Some(known), None) => {
            Err(DepotIdentityError::NotThere { folder, known: known.to_string(), kept })
        }
        // A version that gave depots no identity yet: its files are there, or they are not.
        (None, None) if kept > 0 && is_empty(&folder.join("models")) => {
            let known = "of an older version".to_owned();
            Err(DepotIdentityError::NotThere { folder, known, kept })
        }
        _ => Ok(()),
    }
}

fn is_empty(folder: &Path) -> bool {
    std::fs::read_dir(folder).map_or(true, |mut entries| entries.next().is_none())
}
