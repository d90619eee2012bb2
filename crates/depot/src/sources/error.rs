//! Errors of sources.

use thiserror::Error;

use crate::examine::DepotError;
use crate::index::IndexError;
use crate::remote::RemoteError;

/// Why a source has no offer for a request.
#[derive(Debug, Error)]
pub enum SourceError {
    /// The machine it is on.
    #[error(transparent)]
    Remote(#[from] RemoteError),
    /// Its index.
    #[error(transparent)]
    Index(#[from] IndexError),
    /// Its folder.
    #[error(transparent)]
    Folder(#[from] DepotError),
    /// It has no such model.
    #[error("the source `{source_name}` has no `{path}`{}", like(nearest.as_ref()))]
    NoModel {
        /// Which.
        source_name: String,
        /// The requested path.
        path: String,
        /// The name most like it.
        nearest: Option<String>,
    },
    /// The reference means several.
    #[error("`{source_name}:{path}` has {} variants: {}", choices.len(), choices.join(", "))]
    Several {
        /// Which.
        source_name: String,
        /// The requested path.
        path: String,
        /// What could be meant.
        choices: Vec<String>,
    },
    /// It does not list what it has.
    #[error("the source `{source_name}` does not list its models; name a model")]
    NotListed {
        /// Which.
        source_name: String,
    },
    /// `git` could not.
    #[error("{place} cannot be read by git: {what}")]
    Git {
        /// Where.
        place: String,
        /// What it says.
        what: String,
    },
    /// `git` would take a token along to where it is sent.
    #[error(
        "{place} redirects to another address, and the token is only for the first one; add the other address: \
         deft source add NAME ADDRESS"
    )]
    GitSentOn {
        /// Where.
        place: String,
    },
    /// A registry's answer.
    #[error("{place} cannot be used: {what}")]
    Registry {
        /// Where.
        place: String,
        /// What it says.
        what: String,
    },
    /// Something it says cannot be.
    #[error("{0}")]
    Wrong(String),
}

fn like(nearest: Option<&String>) -> String {
    nearest.map_or_else(String::new, |nearest| format!("; did you mean `{nearest}`?"))
}
