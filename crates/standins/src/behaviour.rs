//! The behaviour of a stand-in; by default it has no faults.

use serde::{Deserialize, Serialize};

/// The behaviour of a stand-in. Sent as JSON, it changes a running one.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct Behaviour {
    /// Requires this token, as a bearer token or as the password of any user.
    pub token: Option<String>,
    /// Most bytes per second of a connection, including open ones.
    pub rate: Option<u64>,
    /// The byte of a file from which that limit applies.
    pub slow_from: u64,
    /// Breaks connections after this many bytes of content.
    pub break_after: Option<u64>,
    /// Number of broken connections; unlimited by default.
    pub breaks: Option<u32>,
    /// Serves whole files only.
    pub no_ranges: bool,
    /// Sends neither an entity tag nor a time of a file.
    pub no_marks: bool,
    /// Answers requests for content with this status.
    pub status: Option<u16>,
    /// Number of answers with that status; unlimited by default.
    pub refusals: Option<u32>,
    /// Headers of the answers with that status.
    pub retry_after: Option<String>,
    /// Sends an HTML page instead of content.
    pub page: bool,
    /// Sends this many bytes more or fewer than the file has, with the matching length.
    pub longer_by: i64,
    /// Serves another file after this many requests.
    pub changes_after: Option<u32>,
    /// Redirects to this address; `{path}` is replaced by the path.
    pub redirect: Option<String>,
    /// Lists wrong digests in its index.
    pub lies: bool,
}
