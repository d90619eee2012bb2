//! Which variants an operator wants loaded, and how.

use deft_protocol::manage::Settings;
use sqlx::PgExecutor;
use sqlx::types::Json;
use uuid::Uuid;

/// A wish.
pub(crate) struct Wish {
    pub(crate) id: Uuid,
    pub(crate) variant: Uuid,
    pub(crate) settings: Settings,
}

/// All wishes of a node, the oldest first.
pub(crate) async fn all(database: impl PgExecutor<'_>, node: Uuid) -> sqlx::Result<Vec<Wish>> {
    let rows: Vec<(Uuid, Uuid, Json<Settings>)> = sqlx::query_as(
        "select id, variant, settings from instances where node = $1 order by wished_at, id",
    )
    .bind(node)
    .fetch_all(database)
    .await?;
    Ok(rows
        .into_iter()
        .map(|(id, variant, Json(settings))| Wish { id, variant, settings })
        .collect())
}

/// Keeps a wish.
pub(crate) async fn store(
    database: impl PgExecutor<'_>,
    node: Uuid,
    wish: &Wish,
) -> sqlx::Result<()> {
    sqlx::query("insert into instances (id, node, variant, settings) values ($1, $2, $3, $4)")
        .bind(wish.id)
        .bind(node)
        .bind(wish.variant)
        .bind(Json(wish.settings))
        .execute(database)
        .await
        .map(|_| ())
}

/// Forgets a wish; harmless where there was none.
pub(crate) async fn remove(database: impl PgExecutor<'_>, id: Uuid) -> sqlx::Result<()> {
    sqlx::query("delete from instances where id = $1").bind(id).execute(database).await.map(|_| ())
}
