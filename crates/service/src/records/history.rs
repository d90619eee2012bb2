//! Measurements over time.

use chrono::{DateTime, TimeDelta, Utc};
use deft_protocol::manage::{HistoryPoint, Series, Span};
use sqlx::{PgExecutor, PgPool};
use uuid::Uuid;

use crate::database::in_time;

use crate::observing::history::{Sample, step};

/// Adds a sample to the steps it falls in.
pub(crate) async fn store(database: &PgPool, node: Uuid, sample: &Sample) -> sqlx::Result<()> {
    let names: Vec<&str> = sample.values.keys().map(String::as_str).collect();
    let values: Vec<f64> = sample.values.values().copied().collect();
    let mut changes = database.begin().await?;
    for span in Span::ALL {
        in_time(
            sqlx::query(
                "insert into history (node, step_seconds, series, at, samples, total, most)
             select $1, $2, series, $3, 1, value, value from unnest($4::text[], $5::float8[])
                as given (series, value)
             on conflict (node, step_seconds, series, at) do update
                set samples = history.samples + 1,
                    total = history.total + excluded.total,
                    most = greatest(history.most, excluded.most)",
            )
            .bind(node)
            .bind(span.step_seconds().cast_signed())
            .bind(step(sample.at, span.step_seconds()))
            .bind(&names)
            .bind(&values)
            .execute(&mut *changes),
        )
        .await?;
    }
    changes.commit().await
}

/// Removes measurements that are older than each span, and those that a wrong clock dated in the future.
pub(crate) async fn forget_old(
    database: impl PgExecutor<'_>,
    node: Uuid,
    now: DateTime<Utc>,
) -> sqlx::Result<()> {
    let steps: Vec<i32> = Span::ALL.map(|span| span.step_seconds().cast_signed()).to_vec();
    let oldest: Vec<DateTime<Utc>> =
        Span::ALL.map(|span| now - TimeDelta::seconds(span.seconds().into())).to_vec();
    in_time(
        sqlx::query(
            "delete from history using unnest($2::int4[], $3::timestamptz[]) as kept (step, oldest)
         where node = $1 and step_seconds = kept.step and (at < kept.oldest or at > $4)",
        )
        .bind(node)
        .bind(steps)
        .bind(oldest)
        .bind(now + TimeDelta::days(1))
        .execute(database),
    )
    .await
    .map(|_| ())
}

/// All series of a span.
pub(crate) async fn series(
    database: impl PgExecutor<'_>,
    node: Uuid,
    span: Span,
    until: DateTime<Utc>,
) -> sqlx::Result<Vec<Series>> {
    let rows: Vec<(String, DateTime<Utc>, i32, f64, f64)> = in_time(
        sqlx::query_as(
            "select series, at, samples, total, most from history
         where node = $1 and step_seconds = $2 and at > $3 and at <= $4 order by series, at",
        )
        .bind(node)
        .bind(span.step_seconds().cast_signed())
        .bind(until - TimeDelta::seconds(span.seconds().into()))
        .bind(until)
        .fetch_all(database),
    )
    .await?;
    let mut all: Vec<Series> = Vec::new();
    for (name, at, samples, total, most) in rows {
        let point = HistoryPoint { at, mean: total / f64::from(samples.max(1)), most };
        match all.last_mut().filter(|series| series.name == name) {
            Some(series) => series.points.push(point),
            None => all.push(Series { name, points: vec![point] }),
        }
    }
    Ok(all)
}
