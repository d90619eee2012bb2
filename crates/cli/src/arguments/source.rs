//! `deft source`, as clap parses it.

use std::path::PathBuf;

use clap::{Args, Subcommand, ValueEnum};
use deft_protocol::manage::SourceKind;

#[derive(Debug, Subcommand)]
pub(crate) enum Source {
    /// List the sources.
    List,
    /// Add a source, or set the token of an existing one.
    Add(AddSource),
    /// Check that sources can be reached, and count their offers.
    Check {
        /// Source to check; all sources by default.
        name: Option<String>,
    },
    /// Remove a source and its token; pulled models stay.
    Remove {
        /// Source to remove.
        name: String,
    },
}

/// Kinds of sources.
#[derive(Debug, Clone, Copy, ValueEnum)]
pub(crate) enum Kind {
    /// Folder of a web server with a depot index.
    Index,
    /// OCI registry.
    Registry,
    /// Git repository, or many where the address has `{repo}`.
    Git,
    /// Hub that lists files as JSON.
    Listing,
    /// Folder on the service's machine.
    Folder,
}

impl From<Kind> for SourceKind {
    fn from(kind: Kind) -> Self {
        match kind {
            Kind::Index => Self::Index,
            Kind::Registry => Self::Registry,
            Kind::Git => Self::Git,
            Kind::Listing => Self::Listing,
            Kind::Folder => Self::Folder,
        }
    }
}

#[derive(Debug, Args)]
pub(crate) struct AddSource {
    /// Name: letters, digits and dashes.
    pub(crate) name: String,
    /// Address or folder; for a listing, the template of the list's address with `{repo}` and `{revision}`.
    pub(crate) address: String,
    /// Kind of source; recognised from the address by default.
    #[arg(long, value_enum)]
    pub(crate) kind: Option<Kind>,
    /// User name that belongs to the token, if the source needs one.
    #[arg(long, value_name = "NAME")]
    pub(crate) user: Option<String>,
    /// Ask for a token, and store it in a file that only the service's user can read.
    #[arg(long, conflicts_with = "token_file")]
    pub(crate) ask_token: bool,
    /// Read the token from this file whenever it is needed.
    #[arg(long, value_name = "FILE")]
    pub(crate) token_file: Option<PathBuf>,
    /// Template of a file's address, with `{repo}`, `{revision}` and `{path}`.
    #[arg(long, value_name = "TEMPLATE", help_heading = "Listings")]
    pub(crate) download: Option<String>,
    /// JSON pointer to the entries of the list.
    #[arg(long, value_name = "POINTER", default_value = "", help_heading = "Listings")]
    pub(crate) entries: String,
    /// JSON pointer to the path within an entry.
    #[arg(long, value_name = "POINTER", default_value = "/path", help_heading = "Listings")]
    pub(crate) path: String,
    /// JSON pointer to the length within an entry.
    #[arg(long, value_name = "POINTER", help_heading = "Listings")]
    pub(crate) bytes: Option<String>,
    /// JSON pointer to the SHA-256 within an entry.
    #[arg(long, value_name = "POINTER", help_heading = "Listings")]
    pub(crate) sha256: Option<String>,
}
