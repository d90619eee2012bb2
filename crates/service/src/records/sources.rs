//! Where models come from.

use chrono::{DateTime, Utc};
use deft_protocol::manage::{ListingRules, SourceKind};
use serde_json::Value;
use sqlx::types::Json;
use sqlx::{FromRow, PgExecutor};
use uuid::Uuid;

use crate::database::in_time;

/// A recorded source.
#[derive(Debug, Clone)]
pub(crate) struct SourceRecord {
    pub(crate) name: String,
    pub(crate) address: String,
    pub(crate) kind: SourceKind,
    pub(crate) listing: Option<ListingRules>,
    pub(crate) user: Option<String>,
    pub(crate) token_file: Option<String>,
    pub(crate) added_at: DateTime<Utc>,
}

#[derive(FromRow)]
struct Row {
    name: String,
    address: String,
    kind: String,
    listing: Option<Value>,
    user_name: Option<String>,
    token_file: Option<String>,
    added_at: DateTime<Utc>,
}

/// The recorded word of a kind.
pub(crate) const fn word(kind: SourceKind) -> &'static str {
    match kind {
        SourceKind::Index => "index",
        SourceKind::Registry => "registry",
        SourceKind::Git => "git",
        SourceKind::Listing => "listing",
        SourceKind::Folder => "folder",
    }
}

fn kind(word: &str) -> SourceKind {
    match word {
        "registry" => SourceKind::Registry,
        "git" => SourceKind::Git,
        "listing" => SourceKind::Listing,
        "folder" => SourceKind::Folder,
        // The table takes no other words.
        _ => SourceKind::Index,
    }
}

/// All sources of a node, by name.
pub(crate) async fn all(
    database: impl PgExecutor<'_>,
    node: Uuid,
) -> sqlx::Result<Vec<SourceRecord>> {
    let rows: Vec<Row> = in_time(
        sqlx::query_as(
            "select name, address, kind, listing, user_name, token_file, added_at
         from sources where node = $1 order by name",
        )
        .bind(node)
        .fetch_all(database),
    )
    .await?;
    let record = |row: Row| {
        let listing = row.listing.map(serde_json::from_value::<ListingRules>).transpose();
        let listing = listing.map_err(|error| {
            tracing::warn!(
                "the record of the source `{}` cannot be read, so the source is not listed: {error}",
                row.name
            );
        });
        Some(SourceRecord {
            name: row.name,
            address: row.address,
            kind: kind(&row.kind),
            listing: listing.ok()?,
            user: row.user_name,
            token_file: row.token_file,
            added_at: row.added_at,
        })
    };
    Ok(rows.into_iter().filter_map(record).collect())
}

/// Stores a source, in place of one of the same name.
pub(crate) async fn store(
    database: impl PgExecutor<'_>,
    node: Uuid,
    source: &SourceRecord,
) -> sqlx::Result<()> {
    in_time(sqlx::query(
        "insert into sources (node, name, address, kind, listing, user_name, token_file, added_at)
         values ($1, $2, $3, $4, $5, $6, $7, $8)
         on conflict (node, name) do update
            set address = excluded.address, kind = excluded.kind, listing = excluded.listing,
                user_name = excluded.user_name, token_file = excluded.token_file",
    )
    .bind(node)
    .bind(&source.name)
    .bind(&source.address)
    .bind(word(source.kind))
    .bind(source.listing.as_ref().map(Json))
    .bind(&source.user)
    .bind(&source.token_file)
    .bind(source.added_at)
    .execute(database)).await
    .map(|_| ())
}

/// Forgets a source.
pub(crate) async fn remove(
    database: impl PgExecutor<'_>,
    node: Uuid,
    name: &str,
) -> sqlx::Result<()> {
    in_time(
        sqlx::query("delete from sources where node = $1 and name = $2")
            .bind(node)
            .bind(name)
            .execute(database),
    )
    .await
    .map(|_| ())
}
