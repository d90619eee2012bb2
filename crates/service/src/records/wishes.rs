//! Which variants an operator wants loaded, and how.

use deft_protocol::manage::Settings;
use serde_json::Value;
use sqlx::PgExecutor;
use sqlx::types::Json;
use uuid::Uuid;

use crate::database::in_time;

/// A wish.
pub(crate) struct Wish {
    pub(crate) id: Uuid,
    pub(crate) variant: Uuid,
    /// Which instance of the variant; the first is 1.
    pub(crate) copy: u32,
    pub(crate) settings: Settings,
}

/// All wishes of a node that are understood, the oldest first.
pub(crate) async fn all(database: impl PgExecutor<'_>, node: Uuid) -> sqlx::Result<Vec<Wish>> {
    let rows: Vec<(Uuid, Uuid, i32, Value)> = in_time(sqlx::query_as(
        "select id, variant, copy, settings from instances where node = $1 order by wished_at, id",
    )
    .bind(node)
    .fetch_all(database)).await?;
    let understood = |(id, variant, copy, settings): (Uuid, Uuid, i32, Value)| {
        let copy = u32::try_from(copy).unwrap_or(1);
        match serde_json::from_value(settings) {
            Ok(settings) => Some(Wish { id, variant, copy, settings }),
            Err(error) => {
                // It stays as it is, for the version that wrote it.
                tracing::warn!("the wish {id} is not understood, and not followed: {error}");
                None
            }
        }
    };
    Ok(rows.into_iter().filter_map(understood).collect())
}

/// Keeps a wish, in the place of another one for the same instance.
pub(crate) async fn store(
    database: impl PgExecutor<'_>,
    node: Uuid,
    wish: &Wish,
) -> sqlx::Result<()> {
    let insert = "insert into instances (id, node, variant, copy, settings) \
                  values ($1, $2, $3, $4, $5) \
                  on conflict (node, variant, copy) \
                  do update set id = excluded.id, settings = excluded.settings";
    in_time(
        sqlx::query(insert)
            .bind(wish.id)
            .bind(node)
            .bind(wish.variant)
            .bind(i32::try_from(wish.copy).unwrap_or(i32::MAX))
            .bind(Json(&wish.settings))
            .execute(database),
    )
    .await
    .map(|_| ())
}

/// Forgets a wish; harmless where there was none.
pub(crate) async fn remove(database: impl PgExecutor<'_>, id: Uuid) -> sqlx::Result<()> {
    in_time(sqlx::query("delete from instances where id = $1").bind(id).execute(database))
        .await
        .map(|_| ())
}
