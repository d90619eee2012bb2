//! Profiles: settings for models, under names of their own.

use std::collections::BTreeSet;

use chrono::{DateTime, Utc};
use deft_protocol::manage::{Profile, ProfileSettings};
use serde_json::Value;
use sqlx::PgExecutor;
use sqlx::types::Json;
use uuid::Uuid;

use crate::database::in_time;

/// All profiles of a node, by name, and the names of those whose records this version does not understand.
pub(crate) async fn all(
    database: impl PgExecutor<'_>,
    node: Uuid,
) -> sqlx::Result<(Vec<Profile>, BTreeSet<String>)> {
    let rows: Vec<(String, Value, DateTime<Utc>)> = in_time(
        sqlx::query_as(
            "select name, profile, saved_at from profiles where node = $1 order by name",
        )
        .bind(node)
        .fetch_all(database),
    )
    .await?;
    let (mut profiles, mut unread) = (Vec::new(), BTreeSet::new());
    for (name, settings, saved_at) in rows {
        match serde_json::from_value::<ProfileSettings>(settings) {
            Ok(settings) => profiles.push(Profile { name, settings, saved_at }),
            Err(error) => {
                tracing::warn!("the profile `{name}` was left unchanged: {error}");
                unread.insert(name);
            }
        }
    }
    Ok((profiles, unread))
}

/// Stores a profile, in place of one of the same name.
pub(crate) async fn store(
    database: impl PgExecutor<'_>,
    node: Uuid,
    profile: &Profile,
) -> sqlx::Result<()> {
    in_time(
        sqlx::query(
            "insert into profiles (node, name, profile, saved_at) values ($1, $2, $3, $4)
             on conflict (node, name) do update
                set profile = excluded.profile, saved_at = excluded.saved_at",
        )
        .bind(node)
        .bind(&profile.name)
        .bind(Json(&profile.settings))
        .bind(profile.saved_at)
        .execute(database),
    )
    .await
    .map(|_| ())
}

/// Forgets a profile.
pub(crate) async fn remove(
    database: impl PgExecutor<'_>,
    node: Uuid,
    name: &str,
) -> sqlx::Result<()> {
    in_time(
        sqlx::query("delete from profiles where node = $1 and name = $2")
            .bind(node)
            .bind(name)
            .execute(database),
    )
    .await
    .map(|_| ())
}
