//! How a stand-in behaves; everything is well where nothing is said.

use serde::{Deserialize, Serialize};

/// How a stand-in behaves. Sent as JSON it changes a running one.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct Behaviour {
    /// Asks for this token, as bearer or as anybody's password.
    pub token: Option<String>,
    /// Sends no faster than so many bytes a second on each connection, also on those that are open.
    pub rate: Option<u64>,
    /// The byte of a file from which on that rate counts.
    pub slow_from: u64,
    /// Breaks a connection off after so many bytes of content.
    pub break_after: Option<u64>,
    /// Breaks off so often, then no more; always where nothing is said.
    pub breaks: Option<u32>,
    /// Serves whole files only.
    pub no_ranges: bool,
    /// Tells no mark and no time of a file.
    pub no_marks: bool,
    /// Answers content with this status.
    pub status: Option<u16>,
    /// Answers so often with that status, then no more; always where nothing is said.
    pub refusals: Option<u32>,
    /// What goes with that status.
    pub retry_after: Option<String>,
    /// Sends a page for people instead of content.
    pub page: bool,
    /// Sends so many bytes more, or fewer, than the file has, and says so.
    pub longer_by: i64,
    /// Is another file after so many questions.
    pub changes_after: Option<u32>,
    /// Sends everybody to this address; `{path}` stands for the path.
    pub redirect: Option<String>,
    /// Tells wrong digests in its index.
    pub lies: bool,
}
