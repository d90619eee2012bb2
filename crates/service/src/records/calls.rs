//! One row for each call, written behind the callers' backs: a slow or absent database never holds
//! up an answer.

use std::collections::HashMap;
use std::time::Duration;

use chrono::{DateTime, Utc};
use deft_protocol::manage::CallRecord;
use sqlx::{FromRow, PgExecutor, PgPool};
use tokio::sync::mpsc;
use uuid::Uuid;

use crate::database::in_time;

use crate::observing::metrics::Metrics;

/// Most rows in memory while the database is unavailable; further ones are dropped and counted.
const BUFFERED: usize = 10_000;
/// Old records that are removed at once.
const REMOVED_AT_ONCE: u64 = 50_000;
/// Pause before writing is tried again.
const RETRY: Duration = Duration::from_secs(1);

/// Takes rows and writes them when it can.
#[derive(Clone)]
pub(crate) struct Recorder {
    rows: mpsc::Sender<CallRecord>,
    metrics: Metrics,
}

impl Recorder {
    /// Starts the task that writes; it ends when all recorders are gone and all is written.
    pub(crate) fn start(
        database: PgPool,
        node: Uuid,
        metrics: Metrics,
    ) -> (Self, tokio::task::JoinHandle<()>) {
        let (rows, mut waiting) = mpsc::channel::<CallRecord>(BUFFERED);
        let task = tokio::spawn(async move {
            while let Some(row) = waiting.recv().await {
                while let Err(error) = store(&database, node, &row).await {
                    if database.is_closed() {
                        return;
                    }
                    tracing::warn!(
                        "the database does not answer, so the record of a call is written later: \
                     {error}"
                    );
                    tokio::time::sleep(RETRY).await;
                }
            }
        });
        (Self { rows, metrics }, task)
    }

    pub(crate) fn record(&self, row: CallRecord) {
        self.metrics.count(&row);
        if self.rows.try_send(row).is_err() {
            tracing::error!(
                "the record of a call was dropped, because {BUFFERED} records wait for the database"
            );
        }
    }
}

async fn store(database: impl PgExecutor<'_>, node: Uuid, row: &CallRecord) -> sqlx::Result<()> {
    in_time(
        sqlx::query(
            "with stored as (
            insert into calls (id, node, variant_name, arrived_at, outcome, prompt_tokens,
                answer_tokens, first_token_seconds, total_seconds, caller, detail, reused_tokens,
                queue_seconds, prompt_rate, answer_rate)
            values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15)
            on conflict (id) do nothing
            returning node, variant_name, arrived_at
         )
         insert into uses (node, variant_name, calls, last)
         select node, variant_name, 1, arrived_at from stored
         on conflict (node, variant_name) do update
            set calls = uses.calls + 1, last = greatest(uses.last, excluded.last)",
        )
        .bind(row.id)
        .bind(node)
        .bind(&row.name)
        .bind(row.arrived_at)
        .bind(&row.outcome)
        .bind(row.prompt_tokens.cast_signed())
        .bind(row.answer_tokens.cast_signed())
        .bind(row.first_token_seconds)
        .bind(row.total_seconds)
        .bind(&row.caller)
        .bind(&row.detail)
        .bind(row.cached_tokens.cast_signed())
        .bind(row.queue_seconds)
        .bind(row.prompt_rate)
        .bind(row.answer_rate)
        .execute(database),
    )
    .await
    .map(|_| ())
}

/// Removes the oldest records beyond a number, a few at a time, so that no statement takes long.
pub(crate) async fn forget_old(database: &PgPool, node: Uuid, kept: u32) -> sqlx::Result<()> {
    while forget_some(database, node, kept).await? >= REMOVED_AT_ONCE {}
    Ok(())
}

async fn forget_some(database: impl PgExecutor<'_>, node: Uuid, kept: u32) -> sqlx::Result<u64> {
    in_time(
        sqlx::query(
            "delete from calls where id in (
                select id from calls where node = $1 and arrived_at <= (
                    select arrived_at from calls where node = $1
                    order by arrived_at desc offset $2 limit 1)
                order by arrived_at limit $3)",
        )
        .bind(node)
        .bind(i64::from(kept))
        .bind(REMOVED_AT_ONCE.cast_signed())
        .execute(database),
    )
    .await
    .map(|done| done.rows_affected())
}

#[derive(FromRow)]
struct Row {
    id: Uuid,
    variant_name: String,
    arrived_at: DateTime<Utc>,
    outcome: String,
    prompt_tokens: i32,
    answer_tokens: i32,
    first_token_seconds: Option<f64>,
    total_seconds: f64,
    caller: String,
    detail: Option<String>,
    reused_tokens: i32,
    queue_seconds: f64,
    prompt_rate: Option<f64>,
    answer_rate: Option<f64>,
}

/// How often a variant was asked, and when last.
#[derive(Debug, Clone, Copy, Default)]
pub(crate) struct Use {
    pub(crate) calls: u64,
    pub(crate) last: Option<DateTime<Utc>>,
}

/// The use that was made of each variant, by its name, or of one of them.
pub(crate) async fn uses(
    database: impl PgExecutor<'_>,
    node: Uuid,
    only: Option<&str>,
) -> sqlx::Result<HashMap<String, Use>> {
    let rows: Vec<(String, i64, Option<DateTime<Utc>>)> = in_time(
        sqlx::query_as(
            "select variant_name, calls, last from uses
         where node = $1 and ($2::text is null or variant_name = $2)",
        )
        .bind(node)
        .bind(only)
        .fetch_all(database),
    )
    .await?;
    let made =
        |(name, calls, last): (String, i64, _)| (name, Use { calls: calls.cast_unsigned(), last });
    Ok(rows.into_iter().map(made).collect())
}

/// The latest calls of a node, newest first.
pub(crate) async fn latest(
    database: impl PgExecutor<'_>,
    node: Uuid,
    count: u32,
) -> sqlx::Result<Vec<CallRecord>> {
    let rows: Vec<Row> = in_time(
        sqlx::query_as(
            "select id, variant_name, arrived_at, outcome, prompt_tokens, answer_tokens,
            first_token_seconds, total_seconds, caller, detail, reused_tokens, queue_seconds,
            prompt_rate, answer_rate
         from calls where node = $1 order by arrived_at desc limit $2",
        )
        .bind(node)
        .bind(i64::from(count))
        .fetch_all(database),
    )
    .await?;
    let record = |row: Row| CallRecord {
        id: row.id,
        name: row.variant_name,
        arrived_at: row.arrived_at,
        outcome: row.outcome,
        prompt_tokens: row.prompt_tokens.cast_unsigned(),
        answer_tokens: row.answer_tokens.cast_unsigned(),
        first_token_seconds: row.first_token_seconds,
        total_seconds: row.total_seconds,
        caller: row.caller,
        detail: row.detail,
        cached_tokens: row.reused_tokens.cast_unsigned(),
        queue_seconds: row.queue_seconds,
        prompt_rate: row.prompt_rate,
        answer_rate: row.answer_rate,
    };
    Ok(rows.into_iter().map(record).collect())
}
