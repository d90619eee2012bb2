//! Variants of models in the depot.

use std::path::PathBuf;
use std::time::Instant;

use chrono::{DateTime, Utc};
use deft_depot::{Examined, FileStamp, VariantName};
use deft_protocol::manage::{ModelFacts, SettingsRequest};
use itertools::Itertools;
use serde_json::Value;
use sqlx::types::Json;
use sqlx::{FromRow, PgExecutor};
use uuid::Uuid;

use crate::database::in_time;

/// A registered variant.
#[derive(Debug, Clone)]
pub(crate) struct Registered {
    pub(crate) id: Uuid,
    pub(crate) name: VariantName,
    pub(crate) path: PathBuf,
    pub(crate) stamp: FileStamp,
    pub(crate) facts: ModelFacts,
    pub(crate) registered_at: DateTime<Utc>,
    /// Since when this process knows it, by a clock that does not jump.
    pub(crate) since: Instant,
    /// Whether its files are the depot's own.
    pub(crate) stored: bool,
    /// Whether it is there for the time of a call only; then it is in no record.
    pub(crate) is_temporary: bool,
    /// What the operator gave with it.
    pub(crate) given: Given,
}

/// What an operator gives with a model.
#[derive(Debug, Clone, Default)]
pub(crate) struct Given {
    /// A chat template in place of the file's own.
    pub(crate) template: Option<String>,
    /// Default settings of its loads.
    pub(crate) defaults: SettingsRequest,
}

#[derive(FromRow)]
struct Row {
    id: Uuid,
    model: String,
    variant: String,
    path: String,
    file_bytes: i64,
    modified_ns: i64,
    inode: i64,
    facts: Value,
    registered_at: DateTime<Utc>,
    kept: bool,
    template: Option<String>,
    defaults: Value,
}

/// A row that this version does not understand; it stays unchanged.
#[derive(Debug, Clone)]
pub(crate) struct UnreadRow {
    pub(crate) name: VariantName,
    pub(crate) path: PathBuf,
    pub(crate) why: String,
}

impl Row {
    /// # Errors
    /// The row is not understood, for instance because a later version wrote it.
    fn understood(self) -> Result<Registered, UnreadRow> {
        let row = self;
        let name = VariantName { model: row.model, variant: row.variant };
        let unread = |what: &str, error: &dyn std::fmt::Display| UnreadRow {
            name: name.clone(),
            path: row.path.clone().into(),
            why: format!("its record cannot be read: {what}: {error}"),
        };
        let facts = serde_json::from_value(row.facts).map_err(|error| unread("facts", &error))?;
        let defaults =
            serde_json::from_value(row.defaults).map_err(|error| unread("defaults", &error))?;
        Ok(Registered {
            id: row.id,
            name,
            path: row.path.into(),
            stamp: FileStamp {
                bytes: row.file_bytes.cast_unsigned(),
                modified_ns: row.modified_ns,
                inode: row.inode.cast_unsigned(),
            },
            facts,
            registered_at: row.registered_at,
            since: Instant::now(),
            stored: row.kept,
            is_temporary: false,
            given: Given { template: row.template, defaults },
        })
    }
}

/// All variants of a node, the oldest first, and separately those that this version does not understand.
pub(crate) async fn all(
    database: impl PgExecutor<'_>,
    node: Uuid,
) -> sqlx::Result<(Vec<Registered>, Vec<UnreadRow>)> {
    let rows: Vec<Row> = in_time(sqlx::query_as(
        "select id, model, variant, path, file_bytes, modified_ns, inode, facts, registered_at, kept,
            template, defaults
         from variants where node = $1 order by registered_at, id",
    )
    .bind(node)
    .fetch_all(database)).await?;
    Ok(rows.into_iter().map(Row::understood).partition_result())
}

/// Where the files of a variant are.
#[derive(Debug, Clone, Copy)]
pub(crate) enum Storage {
    /// Elsewhere on the machine.
    Registered,
    /// In the depot, with the id that they have there.
    Stored(Option<Uuid>),
}

/// Stores a variant; one of the same name and path is brought up to date. Nothing is returned where
/// the name belongs to another file.
pub(crate) async fn store(
    database: impl PgExecutor<'_>,
    node: Uuid,
    name: &VariantName,
    path: &str,
    examined: &Examined,
    storage: Storage,
    given: &Given,
) -> sqlx::Result<Option<Registered>> {
    let Examined { stamp, facts } = examined;
    let (id, stored) = match storage {
        Storage::Registered => (None, false),
        Storage::Stored(id) => (id, true),
    };
    let row: Option<Row> = in_time(
        sqlx::query_as(
            "insert into variants
            (id, node, model, variant, path, file_bytes, modified_ns, inode, facts, kept, template,
             defaults)
         values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12)
         on conflict (node, model, variant) do update
            set file_bytes = excluded.file_bytes, modified_ns = excluded.modified_ns,
                inode = excluded.inode, facts = excluded.facts, template = excluded.template,
                defaults = excluded.defaults
            where variants.path = excluded.path
         returning id, model, variant, path, file_bytes, modified_ns, inode, facts, registered_at,
            kept, template, defaults",
        )
        .bind(id.unwrap_or_else(Uuid::now_v7))
        .bind(node)
        .bind(&name.model)
        .bind(&name.variant)
        .bind(path)
        .bind(stamp.bytes.cast_signed())
        .bind(stamp.modified_ns)
        .bind(stamp.inode.cast_signed())
        .bind(Json(facts))
        .bind(stored)
        .bind(&given.template)
        .bind(Json(&given.defaults))
        .fetch_optional(database),
    )
    .await?;
    let unread = |row: UnreadRow| sqlx::Error::Decode(row.why.into());
    row.map(Row::understood).transpose().map_err(unread)
}

/// Deletes a variant and the requests to load it.
pub(crate) async fn remove(database: impl PgExecutor<'_>, id: Uuid) -> sqlx::Result<()> {
    in_time(sqlx::query("delete from variants where id = $1").bind(id).execute(database))
        .await
        .map(|_| ())
}

/// Gives a variant another name and path.
pub(crate) async fn rename(
    database: impl PgExecutor<'_>,
    id: Uuid,
    name: &VariantName,
    path: &str,
) -> sqlx::Result<()> {
    in_time(
        sqlx::query("update variants set model = $2, variant = $3, path = $4 where id = $1")
            .bind(id)
            .bind(&name.model)
            .bind(&name.variant)
            .bind(path)
            .execute(database),
    )
    .await
    .map(|_| ())
}
