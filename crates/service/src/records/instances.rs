//! Which variants an operator wants loaded, and how.

use deft_protocol::manage::Settings;
use serde_json::Value;
use sqlx::PgExecutor;
use sqlx::types::Json;
use uuid::Uuid;

use crate::database::in_time;

/// An instance that the operator requested.
pub(crate) struct RequestedInstance {
    pub(crate) id: Uuid,
    pub(crate) variant: Uuid,
    /// Which instance of the variant; the first is 1.
    pub(crate) number: u32,
    pub(crate) settings: Settings,
}

/// All requested instances of a node whose records can be read, oldest first.
pub(crate) async fn all(
    database: impl PgExecutor<'_>,
    node: Uuid,
) -> sqlx::Result<Vec<RequestedInstance>> {
    let rows: Vec<(Uuid, Uuid, i32, Value)> = in_time(sqlx::query_as(
        "select id, variant, copy, settings from instances where node = $1 order by wished_at, id",
    )
    .bind(node)
    .fetch_all(database)).await?;
    let understood = |(id, variant, copy, settings): (Uuid, Uuid, i32, Value)| {
        let number = u32::try_from(copy).unwrap_or(1);
        match serde_json::from_value(settings) {
            Ok(settings) => Some(RequestedInstance { id, variant, number, settings }),
            Err(error) => {
                // It stays unchanged, for the version that wrote it.
                tracing::warn!(
                    "the record of the requested instance {id} cannot be read, so it is not loaded: {error}"
                );
                None
            }
        }
    };
    Ok(rows.into_iter().filter_map(understood).collect())
}

/// Stores a requested instance, replacing an earlier record of it.
pub(crate) async fn store(
    database: impl PgExecutor<'_>,
    node: Uuid,
    requested: &RequestedInstance,
) -> sqlx::Result<()> {
    let insert = "insert into instances (id, node, variant, copy, settings) \
                  values ($1, $2, $3, $4, $5) \
                  on conflict (node, variant, copy) \
                  do update set id = excluded.id, settings = excluded.settings";
    in_time(
        sqlx::query(insert)
            .bind(requested.id)
            .bind(node)
            .bind(requested.variant)
            .bind(i32::try_from(requested.number).unwrap_or(i32::MAX))
            .bind(Json(&requested.settings))
            .execute(database),
    )
    .await
    .map(|_| ())
}

/// Deletes the record of a requested instance, if there is one.
pub(crate) async fn remove(database: impl PgExecutor<'_>, id: Uuid) -> sqlx::Result<()> {
    in_time(sqlx::query("delete from instances where id = $1").bind(id).execute(database))
        .await
        .map(|_| ())
}
