//! Transfers, so that a restart knows of them.

use deft_protocol::manage::Transfer;
use serde_json::Value;
use sqlx::types::Json;
use sqlx::{PgExecutor, PgPool};
use uuid::Uuid;

use crate::database::in_time;

/// Number of ended transfers that stay in the records.
const KEPT: i64 = 100;

/// Stores the state of a transfer.
pub(crate) async fn store(
    database: &PgPool,
    node: Uuid,
    transfer: &Transfer,
    request: &Value,
) -> sqlx::Result<()> {
    in_time(
        sqlx::query(
            "insert into transfers (id, node, began_at, ended, request, report)
         values ($1, $2, $3, $4, $5, $6)
         on conflict (id) do update set ended = excluded.ended, report = excluded.report",
        )
        .bind(transfer.id)
        .bind(node)
        .bind(transfer.began_at)
        .bind(transfer.state.has_ended())
        .bind(Json(request))
        .bind(Json(transfer))
        .execute(database),
    )
    .await?;
    in_time(
        sqlx::query(
            "delete from transfers where node = $1 and ended and id not in
            (select id from transfers where node = $1 order by began_at desc limit $2)",
        )
        .bind(node)
        .bind(KEPT)
        .execute(database),
    )
    .await
    .map(|_| ())
}

/// The latest with their requests, the newest first, and all that had not ended.
pub(crate) async fn latest(
    database: impl PgExecutor<'_>,
    node: Uuid,
    count: i64,
) -> sqlx::Result<Vec<(Transfer, Value)>> {
    let rows: Vec<(Value, Value)> = in_time(
        sqlx::query_as(
            "select report, request from transfers
         where node = $1 and (not ended or id in
            (select id from transfers where node = $1 order by began_at desc limit $2))
         order by began_at desc",
        )
        .bind(node)
        .bind(count)
        .fetch_all(database),
    )
    .await?;
    let understood = |(report, request): (Value, Value)| match serde_json::from_value(report) {
        Ok(report) => Some((report, request)),
        Err(error) => {
            tracing::warn!(
                "the record of a transfer cannot be read, so the transfer is not listed: {error}"
            );
            None
        }
    };
    Ok(rows.into_iter().filter_map(understood).collect())
}
