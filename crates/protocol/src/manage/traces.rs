//! Traces of calls, for an operator who looks for the fault of an agent.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

/// `POST /manage/v1/tracing`.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct TracingRequest {
    /// Model or variant whose calls are traced.
    pub model: String,
    /// How long calls are traced, in seconds; at most a day.
    pub seconds: u64,
    /// How long a trace is kept after its call ended, in seconds; an hour by default, at most a week.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub keep_seconds: Option<u64>,
}

/// Calls that are traced now.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Tracing {
    /// Model or variant.
    pub model: String,
    /// Since when.
    pub since: DateTime<Utc>,
    /// Until when.
    pub until: DateTime<Utc>,
    /// How long a trace is kept after its call ended, in seconds.
    pub keep_seconds: u64,
}

/// A trace in the list.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct TraceSummary {
    /// Id of the call.
    pub call: Uuid,
    /// The variant that answered.
    pub name: String,
    /// Who called.
    pub caller: String,
    /// When the call arrived.
    pub arrived_at: DateTime<Utc>,
    /// How it ended, as in the record of the call.
    pub outcome: String,
    /// Whether reading a tool call stopped before its end.
    pub stopped: bool,
    /// When the trace is deleted.
    pub deleted_at: DateTime<Utc>,
}

/// How a call was answered.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Trace {
    /// What the list says of it.
    pub summary: TraceSummary,
    /// The rendered prompt, with control tokens.
    pub prompt: String,
    /// The constraint of the answer or of its tool calls.
    pub constraint: Option<String>,
    /// A tool call as the model's template writes it, if the call had tools.
    pub call_form: Option<String>,
    /// The answers as the model wrote them.
    pub answers: Vec<TracedAnswer>,
}

/// An answer as the model wrote it.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct TracedAnswer {
    /// The output, with control tokens.
    pub output: String,
    /// Where reading a tool call stopped before its end: a number of characters of the output.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stopped_at: Option<usize>,
}

/// `DELETE /manage/v1/traces`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct TracesDeleted {
    /// How many there were.
    pub deleted: usize,
}
