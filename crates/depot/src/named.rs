//! Files that a request names. A file is opened once and then only used through its handle, so that it cannot be replaced
//! between a check and its use.

use std::fs::{File, Metadata};
use std::io;
use std::path::{Path, PathBuf};

use rustix::fs::{Mode, OFlags, open};
use thiserror::Error;

/// Why a file cannot be opened as it was named.
#[derive(Debug, Error)]
pub enum NamedFileError {
    /// There is none.
    #[error("there is no file `{}`", .0.display())]
    Absent(PathBuf),
    /// It leads somewhere else.
    #[error(
        "`{}` is a symbolic link{}; name the file itself", path.display(),
        target.as_ref().map_or_else(String::new, |to| format!(" to `{}`", to.display()))
    )]
    Link {
        /// The given name.
        path: PathBuf,
        /// Where it leads.
        target: Option<PathBuf>,
    },
    /// A folder, a device, a pipe.
    #[error("`{}` is not a file", .0.display())]
    NotAFile(PathBuf),
    /// Not a folder.
    #[error("`{}` is not a folder", .0.display())]
    NotAFolder(PathBuf),
    /// The operating system refuses.
    #[error("cannot read `{}`: {source}", path.display())]
    Io {
        /// The given name.
        path: PathBuf,
        /// What the operating system says.
        source: io::Error,
    },
}

/// A regular file that was named, opened for reading.
#[derive(Debug)]
pub struct NamedFile {
    /// As it was named.
    pub path: PathBuf,
    /// The handle.
    pub file: File,
    /// What the handle says of it.
    pub metadata: Metadata,
}

impl NamedFile {
    /// Opens a regular file. A symbolic link in the last part of the path is refused: it may lead to what
    /// the caller did not name.
    ///
    /// # Errors
    /// There is none, it is something else than a file, or the operating system refuses.
    pub fn open(path: &Path) -> Result<Self, NamedFileError> {
        // Opening a pipe without a writer would block.
        let file = open_as_named(path, OFlags::RDONLY | OFlags::NONBLOCK)?;
        let metadata = file
            .metadata()
            .map_err(|source| NamedFileError::Io { path: path.to_owned(), source })?;
        if !metadata.is_file() {
            return Err(NamedFileError::NotAFile(path.to_owned()));
        }
        Ok(Self { path: path.to_owned(), file, metadata })
    }

    /// Its name without folders.
    #[must_use]
    pub fn name(&self) -> String {
        self.path.file_name().unwrap_or_default().to_string_lossy().into_owned()
    }
}

/// Opens a folder as it was named.
///
/// # Errors
/// There is none, it is a link, or the operating system refuses.
pub(crate) fn open_folder(path: &Path) -> Result<File, NamedFileError> {
    open_as_named(path, OFlags::RDONLY | OFlags::DIRECTORY)
}

fn open_as_named(path: &Path, flags: OFlags) -> Result<File, NamedFileError> {
    let opened = open(path, flags | OFlags::NOFOLLOW | OFlags::CLOEXEC, Mode::empty());
    opened.map(File::from).map_err(|error| {
        let path = path.to_owned();
        let is_link = path.symlink_metadata().is_ok_and(|found| found.is_symlink());
        match io::Error::from(error) {
            _ if is_link => {
                NamedFileError::Link { target: std::fs::canonicalize(&path).ok(), path }
            }
            source if source.kind() == io::ErrorKind::NotFound => NamedFileError::Absent(path),
            source if source.kind() == io::ErrorKind::NotADirectory => {
                NamedFileError::NotAFolder(path)
            }
            // What opens no file: a socket, a device without a driver.
            source if source.raw_os_error() == Some(6) => NamedFileError::NotAFile(path),
            source => NamedFileError::Io { path, source },
        }
    })
}
