//! What went wrong, in the one shape that command line, HTTP and console render
//! (`application/problem+json`, RFC 9457).

use std::fmt;

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::manage::SettingsRequest;

/// What a caller can do about a problem; every edge maps it exhaustively.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum ProblemKind {
    /// The request is wrong.
    Invalid,
    /// The requested thing does not exist.
    Missing,
    /// Who asks has not shown that it may.
    Unauthorized,
    /// Not allowed from where it comes.
    Forbidden,
    /// Refused, because it does not fit or contradicts the present state.
    Refused,
    /// More requests than can be served at once; try again later.
    Overloaded,
    /// Not now; try again.
    Busy,
    /// Something this needs is down.
    Down,
    /// A fault of ours or of a model.
    Fault,
}

impl ProblemKind {
    /// The HTTP status.
    #[must_use]
    pub const fn status(self) -> u16 {
        match self {
            Self::Invalid => 400,
            Self::Unauthorized => 401,
            Self::Forbidden => 403,
            Self::Missing => 404,
            Self::Refused => 409,
            Self::Overloaded => 429,
            Self::Busy | Self::Down => 503,
            Self::Fault => 500,
        }
    }

    /// Whether the same request may succeed later.
    #[must_use]
    pub const fn may_be_retried(self) -> bool {
        match self {
            Self::Overloaded | Self::Busy | Self::Down => true,
            Self::Invalid
            | Self::Missing
            | Self::Unauthorized
            | Self::Forbidden
            | Self::Refused
            | Self::Fault => false,
        }
    }
}

/// A problem.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Problem {
    /// What a caller can do.
    pub kind: ProblemKind,
    /// Stable code, for programs.
    pub code: String,
    /// What happened, with its values, for people.
    pub detail: String,
    /// What to do next.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub way_out: Option<String>,
    /// Ready commands, any of which would do, cheapest first.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub ways: Vec<Way>,
    /// When to retry, in seconds, if known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub retry_after_seconds: Option<u32>,
    /// The invalid field of the request, if one is known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub field: Option<String>,
    /// The HTTP status, repeated as the standard asks.
    pub status: u16,
}

/// A change that would do, as a ready command and as what a program can act on.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Way {
    /// The command.
    pub command: String,
    /// What it brings.
    pub effect: String,
    /// The settings to load with, if that is the change.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub settings: Option<SettingsRequest>,
    /// Instances to unload, if that is the change.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub unload: Vec<String>,
}

impl Problem {
    /// A problem without a way out.
    #[must_use]
    pub fn new(kind: ProblemKind, code: &str, detail: impl Into<String>) -> Self {
        Self {
            kind,
            code: code.to_owned(),
            detail: detail.into(),
            way_out: None,
            ways: Vec::new(),
            retry_after_seconds: None,
            field: None,
            status: kind.status(),
        }
    }

    /// Adds which field is at fault.
    #[must_use]
    pub fn at_field(mut self, field: impl Into<String>) -> Self {
        self.field = Some(field.into());
        self
    }

    /// Adds when to come again.
    #[must_use]
    pub fn retry_after(mut self, seconds: u32) -> Self {
        self.retry_after_seconds = Some(seconds);
        self
    }

    /// Adds what to do next.
    #[must_use]
    pub fn with_way_out(mut self, way_out: impl Into<String>) -> Self {
        self.way_out = Some(way_out.into());
        self
    }
}

impl fmt::Display for Problem {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.detail)?;
        if let Some(way_out) = &self.way_out {
            write!(f, "\n  {way_out}")?;
        }
        self.ways.iter().try_for_each(|way| write!(f, "\n  {} ({})", way.command, way.effect))
    }
}

impl std::error::Error for Problem {}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;

    #[test]
    fn a_problem_is_written_with_its_status_and_way_out() {
        let problem = Problem::new(ProblemKind::Refused, "does_not_fit", "it does not fit");
        assert_eq!(
            json!(problem),
            json!({"kind": "refused", "code": "does_not_fit", "detail": "it does not fit",
                   "status": 409})
        );
        let helped = problem.with_way_out("--lanes 1");
        assert_eq!(json!(helped)["way_out"], "--lanes 1");
        assert!(helped.to_string().contains("it does not fit"));
    }

    #[test]
    fn kinds_have_the_statuses_that_clients_expect() {
        let statuses = [
            (ProblemKind::Invalid, 400),
            (ProblemKind::Unauthorized, 401),
            (ProblemKind::Forbidden, 403),
            (ProblemKind::Missing, 404),
            (ProblemKind::Refused, 409),
            (ProblemKind::Fault, 500),
            (ProblemKind::Overloaded, 429),
            (ProblemKind::Busy, 503),
            (ProblemKind::Down, 503),
        ];
        assert!(statuses.into_iter().all(|(kind, status)| kind.status() == status));
    }
}
