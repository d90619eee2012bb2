//! Measurements over time.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Time span.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Span {
    /// The last hour, a point for every 10 seconds.
    #[default]
    Hour,
    /// The last day, a point for every 2 minutes.
    Day,
    /// The last week, a point for every 15 minutes.
    Week,
}

impl Span {
    /// All of them, the shortest first.
    pub const ALL: [Self; 3] = [Self::Hour, Self::Day, Self::Week];

    /// Seconds back.
    #[must_use]
    pub const fn seconds(self) -> u32 {
        match self {
            Self::Hour => 3600,
            Self::Day => 24 * 3600,
            Self::Week => 7 * 24 * 3600,
        }
    }

    /// Seconds between two points.
    #[must_use]
    pub const fn step_seconds(self) -> u32 {
        match self {
            Self::Hour => 10,
            Self::Day => 120,
            Self::Week => 900,
        }
    }
}

/// `GET /manage/v1/history`.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct History {
    /// Time span.
    pub span: Span,
    /// The end of it.
    pub until: DateTime<Utc>,
    /// Seconds between two points.
    pub step_seconds: u32,
    /// What was measured.
    pub series: Vec<Series>,
}

/// One measurement over time. A step without a measurement has no point.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Series {
    /// `pool:<name>:granted`, `pool:<name>:measured` and `pool:<name>:limit` in bytes;
    /// `prompt_rate` and `answer_rate` in tokens per second over all instances; `calls`, `queued` and
    /// `lanes` as counts; `busy` from 0 to 1; `temperature` in degrees Celsius.
    pub name: String,
    /// The points, the oldest first.
    pub points: Vec<HistoryPoint>,
}

/// A point.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct HistoryPoint {
    /// When its step began.
    pub at: DateTime<Utc>,
    /// The mean over the step.
    pub mean: f64,
    /// The most in the step.
    pub most: f64,
}
