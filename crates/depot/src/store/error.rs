//! Errors of the depot's files.

use std::io;
use std::path::{Path, PathBuf};

use thiserror::Error;

use crate::name::VariantName;
use crate::named::NamedFileError;

/// Why something cannot be done with the depot's files.
#[derive(Debug, Error)]
pub enum StoreError {
    /// Another process has the depot.
    #[error("the depot `{}` is used by another service", .0.display())]
    Locked(PathBuf),
    /// The operating system refused.
    #[error("cannot {what} `{}`: {source}", path.display())]
    Io {
        /// The operation.
        what: &'static str,
        /// With what.
        path: PathBuf,
        /// What the operating system says.
        source: io::Error,
    },
    /// There is too little room on the disk.
    #[error(
        "`{}` has {free} free; {need} are needed, {missing} more. Show what can be removed: deft depot usage",
        path.display()
    )]
    NoSpace {
        /// Where.
        path: PathBuf,
        /// Free bytes there.
        free: deft_planning::Bytes,
        /// Bytes that are needed.
        need: deft_planning::Bytes,
        /// The difference.
        missing: deft_planning::Bytes,
    },
    /// It was cancelled.
    #[error("it was cancelled")]
    Cancelled,
    /// The name is taken.
    #[error("`{0}` is already in the depot")]
    Taken(VariantName),
    /// There is no such variant here.
    #[error("`{0}` is not stored in the depot")]
    NoVariant(VariantName),
    /// A file of that name is there already.
    #[error("`{}` already exists", .0.display())]
    FileThere(PathBuf),
    /// A file that cannot be opened as it was named.
    #[error(transparent)]
    Named(#[from] NamedFileError),
    /// There is something that this version does not understand.
    #[error("`{}` exists and cannot be read ({why}); it was left unchanged", folder.display())]
    NotUnderstood {
        /// Where.
        folder: PathBuf,
        /// Why it is not understood.
        why: String,
    },
    /// The depot was written by another version.
    #[error(
        "the depot `{}` has version {found}; this version of Deft Harbor supports {known}. Nothing was changed. \
         Run the version that wrote it, or use another data directory",
        path.display()
    )]
    OtherForm {
        /// The depot.
        path: PathBuf,
        /// Its form.
        found: u32,
        /// The form that is understood.
        known: u32,
    },
    /// The depot's marker is damaged.
    #[error(
        "`{}` holds the identity of the depot and cannot be used: {why}. Nothing was changed. Restore the file \
         from a backup, or move it away to give the depot a new identity", path.display()
    )]
    MarkerUnusable {
        /// The marker.
        path: PathBuf,
        /// Why.
        why: String,
    },
}

pub(crate) fn failed<'a>(
    what: &'static str,
    path: &'a Path,
) -> impl FnOnce(io::Error) -> StoreError + 'a {
    move |source| StoreError::Io { what, path: path.to_owned(), source }
}
