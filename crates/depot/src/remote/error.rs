//! Why another machine's file cannot be had.

use std::path::PathBuf;
use std::time::Duration;

use thiserror::Error;

use crate::store::{Digest, StoreError};

/// Why another machine's file cannot be had. `place` is where, without what may be secret in it.
#[derive(Debug, Error)]
pub enum RemoteError {
    /// 401.
    #[error("{place} needs a token, or refuses the one that was sent")]
    Unauthorized {
        /// Where.
        place: String,
    },
    /// 403.
    #[error("{place} denies access (status 403)")]
    Forbidden {
        /// Where.
        place: String,
    },
    /// 404.
    #[error("{place} does not exist (status 404)")]
    NotFound {
        /// Where.
        place: String,
    },
    /// 416.
    #[error("{place} has become shorter")]
    RangeRefused {
        /// Where.
        place: String,
    },
    /// 429.
    #[error("{place} limits requests (status 429){}", when(later.as_ref()))]
    TooMany {
        /// Where.
        place: String,
        /// When to come again.
        later: Option<Duration>,
    },
    /// Another answer that is no content.
    #[error("{place} failed with status {code}{}", when(later.as_ref()))]
    Status {
        /// Where.
        place: String,
        /// Its status.
        code: u16,
        /// When to come again.
        later: Option<Duration>,
    },
    /// The connection is not made, or broke.
    #[error("{place} cannot be reached: {what}")]
    Unreachable {
        /// Where.
        place: String,
        /// What happened.
        what: String,
    },
    /// One redirect led to the next.
    #[error("{place} redirects endlessly")]
    RedirectLoop {
        /// Where.
        place: String,
    },
    /// A redirect from an encrypted connection to one that is not.
    #[error("{place} redirects to {to}, which is not encrypted")]
    Downgrade {
        /// Where.
        place: String,
        /// Whereto.
        to: String,
    },
    /// A web page came.
    #[error("{place} is a web page, not a model file")]
    Page {
        /// Where.
        place: String,
    },
    /// An answer that contradicts itself or the question.
    #[error("{place} cannot be used: {what}")]
    Confused {
        /// Where.
        place: String,
        /// The defect.
        what: String,
    },
    /// The file is another one than it was at the beginning.
    #[error("{place} changed during the download")]
    Changed {
        /// Where.
        place: String,
    },
    /// The file is not as long as was said.
    #[error("{place} has {found} bytes; {announced} were announced")]
    WrongLength {
        /// Where.
        place: String,
        /// Announced length in bytes.
        announced: u64,
        /// Length it has, in bytes.
        found: u64,
    },
    /// There is nothing in it.
    #[error("{place} is empty")]
    Empty {
        /// Where.
        place: String,
    },
    /// The content differs from the announced one.
    #[error(
        "{place} has the digest {found}; {announced} was announced. It is not used, and was moved to `{}`", aside.display()
    )]
    WrongDigest {
        /// Where.
        place: String,
        /// The announced digest.
        announced: Digest,
        /// The digest it has.
        found: Digest,
        /// Where it was put.
        aside: PathBuf,
    },
    /// A token that cannot be one.
    #[error("a token is one word of printable ASCII characters")]
    SecretUnusable,
    /// The file with certificates.
    #[error("the certificates in `{}` cannot be used: {what}", path.display())]
    CaFile {
        /// Which.
        path: PathBuf,
        /// Why.
        what: String,
    },
    /// TLS cannot be set up.
    #[error("connections cannot be set up: {0}")]
    Setup(String),
    /// The depot's files.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// It was cancelled.
    #[error("it was cancelled")]
    Cancelled,
}

fn when(later: Option<&Duration>) -> String {
    later.map_or_else(String::new, |later| format!("; retry in {} s", later.as_secs()))
}

impl RemoteError {
    pub(super) fn broken(place: &str, error: &reqwest::Error) -> Self {
        // The innermost cause says what happened.
        let mut what = error.to_string();
        let mut cause: Option<&dyn std::error::Error> = std::error::Error::source(error);
        while let Some(found) = cause {
            what = found.to_string();
            cause = found.source();
        }
        if error.is_timeout() {
            "it stopped sending data".clone_into(&mut what);
        }
        Self::Unreachable { place: place.to_owned(), what }
    }

    /// Whether a retry may succeed, and when, if the server says so.
    pub(super) fn passes(&self) -> Option<Option<Duration>> {
        match self {
            Self::Unreachable { .. } => Some(None),
            Self::TooMany { later, .. } => Some(*later),
            Self::Status { code: 500..=599 | 408 | 425, later, .. } => Some(*later),
            _ => None,
        }
    }
}
