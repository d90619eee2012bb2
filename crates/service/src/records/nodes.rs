//! The node this service is.

use std::path::Path;

use sqlx::PgExecutor;
use uuid::Uuid;

/// The node's id, kept in its data directory.
///
/// # Errors
/// The file cannot be read or written.
pub(crate) fn id(data_dir: &Path) -> std::io::Result<Uuid> {
    let path = data_dir.join("node-id");
    if let Ok(text) = std::fs::read_to_string(&path)
        && let Ok(id) = text.trim().parse()
    {
        return Ok(id);
    }
    let id = Uuid::new_v4();
    std::fs::write(path, format!("{id}\n"))?;
    Ok(id)
}

/// Makes the node known.
pub(crate) async fn introduce(
    database: impl PgExecutor<'_>,
    id: Uuid,
    name: &str,
) -> sqlx::Result<()> {
    sqlx::query(
        "insert into nodes (id, name) values ($1, $2)
         on conflict (id) do update set name = excluded.name",
    )
    .bind(id)
    .bind(name)
    .execute(database)
    .await
    .map(|_| ())
}
