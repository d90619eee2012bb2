//! Errors of the private cluster.

use std::path::PathBuf;

use thiserror::Error;

/// Why there is no private cluster.
#[derive(Debug, Error)]
pub enum ClusterError {
    /// The programs are not installed.
    #[error("PostgreSQL is not installed; install Debian's package: apt-get install postgresql")]
    NoPrograms,
    /// The unprivileged user cannot reach the directory.
    #[error(
        "the database must not run as root, and user `{user}` cannot enter `{}`; use a data directory that it \
         can enter (for instance --data-dir /var/lib/deft-harbor), or allow it: chmod o+x {}",
         blocked.display(), blocked.display()
    )]
    Unreachable {
        /// The user it would run as.
        user: String,
        /// The first directory without access.
        blocked: PathBuf,
    },
    /// The cluster was made by another major version.
    #[error(
        "the records in `{}` were written by PostgreSQL {found}, but {installed} is installed. Install \
         postgresql-{found} too; or dump the records with the old version (pg_dumpall), move the folder away, \
         start the service, and restore the dump", folder.display()
    )]
    OtherVersion {
        /// The cluster.
        folder: PathBuf,
        /// Its major version.
        found: String,
        /// The installed ones.
        installed: String,
    },
    /// The cluster is incomplete.
    #[error(
        "the database `{}` is incomplete: `{missing}` is missing. Nothing was changed. Restore it from a \
         backup; or move it away to start with empty records: the models in the depot are found again",
         folder.display()
    )]
    Torn {
        /// The cluster.
        folder: PathBuf,
        /// The missing part.
        missing: String,
    },
    /// There is a cluster, and its password is not known.
    #[error(
        "`{}` holds the password of the records in `{}` and cannot be used: {why}. Nothing was changed. Restore \
         the file from a backup; or move the whole folder away to start with empty records: the models in the \
         depot are found again", file.display(),
        folder.display()
    )]
    NoKey {
        /// The file with the password.
        file: PathBuf,
        /// The cluster.
        folder: PathBuf,
        /// Why it cannot be used.
        why: String,
    },
    /// Something else is in the place of one of our folders or files.
    #[error("`{}` is not usable ({what}); move it away", path.display())]
    Foreign {
        /// Where.
        path: PathBuf,
        /// What it is.
        what: String,
    },
    /// A program failed.
    #[error("`{program}` failed: {output}")]
    Program {
        /// Which.
        program: String,
        /// What it said.
        output: String,
    },
    /// The operating system refused.
    #[error("the database folder `{}` cannot be used: {source}", path.display())]
    Io {
        /// Where.
        path: PathBuf,
        /// Why.
        source: std::io::Error,
    },
    /// A postmaster is left that does not end.
    #[error("an earlier database process ({pid}) does not end; end it: kill -INT {pid}")]
    StillRunning {
        /// Its process.
        pid: u32,
    },
}
