//! Files of calls, and batches.

use chrono::{DateTime, Utc};
use deft_protocol::batches::{Batch, FilePurpose};
use serde_json::Value;
use sqlx::types::Json;
use sqlx::{FromRow, PgPool};
use uuid::Uuid;

use crate::database::in_time;

/// A recorded file.
#[derive(Debug, Clone, FromRow)]
pub(crate) struct FileRecord {
    pub(crate) id: Uuid,
    pub(crate) name: String,
    pub(crate) bytes: i64,
    purpose: String,
    pub(crate) created_at: DateTime<Utc>,
}

impl FileRecord {
    pub(crate) fn new(id: Uuid, name: String, bytes: u64, purpose: FilePurpose) -> Self {
        let bytes = i64::try_from(bytes).unwrap_or(i64::MAX);
        Self { id, name, bytes, purpose: word(purpose).to_owned(), created_at: Utc::now() }
    }

    pub(crate) fn purpose(&self) -> FilePurpose {
        match &self.purpose[..] {
            "batch_output" => FilePurpose::BatchOutput,
            // The table takes no other words.
            _ => FilePurpose::Batch,
        }
    }
}

const fn word(purpose: FilePurpose) -> &'static str {
    match purpose {
        FilePurpose::Batch => "batch",
        FilePurpose::BatchOutput => "batch_output",
    }
}

/// Records a file.
pub(crate) async fn add_file(database: &PgPool, node: Uuid, file: &FileRecord) -> sqlx::Result<()> {
    in_time(
        sqlx::query(
            "insert into files (id, node, name, bytes, purpose, created_at) values ($1, $2, $3, $4, $5, $6)
         on conflict (id) do update set bytes = excluded.bytes",
        )
        .bind(file.id)
        .bind(node)
        .bind(&file.name)
        .bind(file.bytes)
        .bind(&file.purpose)
        .bind(file.created_at)
        .execute(database),
    )
    .await
    .map(drop)
}

/// A file by its id.
pub(crate) async fn file(
    database: &PgPool,
    node: Uuid,
    id: Uuid,
) -> sqlx::Result<Option<FileRecord>> {
    in_time(
        sqlx::query_as(
            "select id, name, bytes, purpose, created_at from files where node = $1 and id = $2",
        )
        .bind(node)
        .bind(id)
        .fetch_optional(database),
    )
    .await
}

/// The newest files, or the newest before the file `after`.
pub(crate) async fn files(
    database: &PgPool,
    node: Uuid,
    after: Option<Uuid>,
    count: i64,
) -> sqlx::Result<Vec<FileRecord>> {
    in_time(
        sqlx::query_as(
            "select id, name, bytes, purpose, created_at from files
         where node = $1
           and ($2::uuid is null or (created_at, id) < (select created_at, id from files where id = $2))
         order by created_at desc, id desc limit $3",
        )
        .bind(node)
        .bind(after)
        .bind(count)
        .fetch_all(database),
    )
    .await
}

/// Number of files, and their bytes together.
pub(crate) async fn size_of_files(database: &PgPool, node: Uuid) -> sqlx::Result<(i64, i64)> {
    in_time(
        sqlx::query_as(
            "select count(*), coalesce(sum(bytes), 0)::bigint from files where node = $1",
        )
        .bind(node)
        .fetch_one(database),
    )
    .await
}

/// Forgets a file; returns whether it was recorded.
pub(crate) async fn remove_file(database: &PgPool, node: Uuid, id: Uuid) -> sqlx::Result<bool> {
    in_time(
        sqlx::query("delete from files where node = $1 and id = $2")
            .bind(node)
            .bind(id)
            .execute(database),
    )
    .await
    .map(|done| done.rows_affected() > 0)
}

/// Files that were recorded before a time, of which no batch is open.
pub(crate) async fn old_files(
    database: &PgPool,
    node: Uuid,
    before: DateTime<Utc>,
) -> sqlx::Result<Vec<Uuid>> {
    let rows = sqlx::query_as(
        "select id from files where node = $1 and created_at < $2 and not exists (
            select from batches where node = $1 and not ended
              and report ->> 'input_file_id' = 'file-' || replace(files.id::text, '-', ''))",
    );
    let rows: Vec<(Uuid,)> = in_time(rows.bind(node).bind(before).fetch_all(database)).await?;
    Ok(rows.into_iter().map(|(id,)| id).collect())
}

/// Forgets batches that ended and were created before a time.
pub(crate) async fn forget(
    database: &PgPool,
    node: Uuid,
    before: DateTime<Utc>,
) -> sqlx::Result<()> {
    let query = sqlx::query("delete from batches where node = $1 and ended and created_at < $2");
    in_time(query.bind(node).bind(before).execute(database)).await.map(drop)
}

/// Stores the state of a batch. The state of one that has ended stays: whatever arrives after it is older.
pub(crate) async fn store(
    database: &PgPool,
    node: Uuid,
    id: Uuid,
    batch: &Batch,
) -> sqlx::Result<()> {
    in_time(
        sqlx::query(
            "insert into batches (id, node, created_at, ended, report) values ($1, $2, to_timestamp($3), $4, $5)
         on conflict (id) do update set ended = excluded.ended, report = excluded.report
            where not batches.ended",
        )
        .bind(id)
        .bind(node)
        .bind(batch.created_at)
        .bind(batch.status.has_ended())
        .bind(Json(batch))
        .execute(database),
    )
    .await
    .map(drop)
}

/// The newest batches, or the newest before the batch `after`.
pub(crate) async fn latest(
    database: &PgPool,
    node: Uuid,
    after: Option<Uuid>,
    count: i64,
) -> sqlx::Result<Vec<Batch>> {
    let rows = sqlx::query_as(
        "select report from batches
         where node = $1
           and ($2::uuid is null or (created_at, id) < (select created_at, id from batches where id = $2))
         order by created_at desc, id desc limit $3",
    );
    let rows: Vec<(Value,)> =
        in_time(rows.bind(node).bind(after).bind(count).fetch_all(database)).await?;
    Ok(understood(rows))
}

/// A batch by its id.
pub(crate) async fn find(database: &PgPool, node: Uuid, id: Uuid) -> sqlx::Result<Option<Batch>> {
    let row = sqlx::query_as("select report from batches where node = $1 and id = $2");
    let row: Option<(Value,)> = in_time(row.bind(node).bind(id).fetch_optional(database)).await?;
    Ok(understood(row).pop())
}

/// All batches that have not ended, the oldest first.
pub(crate) async fn open(database: &PgPool, node: Uuid) -> sqlx::Result<Vec<Batch>> {
    let rows = sqlx::query_as(
        "select report from batches where node = $1 and not ended order by created_at",
    );
    let rows: Vec<(Value,)> = in_time(rows.bind(node).fetch_all(database)).await?;
    Ok(understood(rows))
}

fn understood(rows: impl IntoIterator<Item = (Value,)>) -> Vec<Batch> {
    let read = |(report,): (Value,)| {
        serde_json::from_value(report)
            .inspect_err(|error| {
                tracing::warn!(
                    "the record of a batch cannot be read, so it is not listed: {error}"
                );
            })
            .ok()
    };
    rows.into_iter().filter_map(read).collect()
}
