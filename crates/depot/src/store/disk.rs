//! Every change that the depot makes to the file system goes through here, so that a test can make each
//! of them fail in turn.

use std::fs::{self, File};
use std::io::{self, Write};
use std::os::unix::fs::{DirBuilderExt, OpenOptionsExt, PermissionsExt};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicI64, Ordering};

use super::error::{StoreError, failed};

/// Mode of folders: only the service's user can list them.
const FOLDER_MODE: u32 = 0o700;
/// Mode of content: readable by the owner and its group, writable by none, because its name is its digest.
const CONTENT_MODE: u32 = 0o440;
/// Mode of what describes a variant.
const RECORD_MODE: u32 = 0o640;

/// Makes changes fail: for tests and drills.
#[derive(Debug)]
pub struct Faults {
    /// Changes that still succeed.
    left: AtomicI64,
    /// Whether everything after the first failure fails too, as where the process was killed.
    is_final: bool,
}

impl Faults {
    /// Makes the change after `changes` others fail; with `is_final`, all later ones too.
    #[must_use]
    pub fn after(changes: u32, is_final: bool) -> Arc<Self> {
        Arc::new(Self { left: AtomicI64::new(changes.into()), is_final })
    }

    /// Whether a change has failed.
    #[must_use]
    pub fn has_failed(&self) -> bool {
        self.left.load(Ordering::SeqCst) < 0
    }
}

/// The file system as the depot changes it; cheap to clone.
#[derive(Debug, Clone, Default)]
pub(crate) struct Disk(Option<Arc<Faults>>);

impl Disk {
    pub(super) fn with(faults: Arc<Faults>) -> Self {
        Self(Some(faults))
    }

    /// Asked before each change.
    ///
    /// # Errors
    /// The error of a requested fault.
    pub(crate) fn change(&self) -> io::Result<()> {
        let Some(faults) = &self.0 else {
            return Ok(());
        };
        let left = faults.left.fetch_sub(1, Ordering::SeqCst);
        if left == 0 || (left < 0 && faults.is_final) {
            return Err(io::Error::other("an injected fault"));
        }
        Ok(())
    }

    pub(super) fn make_folder(&self, path: &Path) -> io::Result<()> {
        self.change()?;
        fs::DirBuilder::new().recursive(true).mode(FOLDER_MODE).create(path)
    }

    pub(super) fn link(&self, from: &Path, to: &Path) -> io::Result<()> {
        self.change()?;
        fs::hard_link(from, to)
    }

    pub(super) fn symlink(&self, target: &Path, path: &Path) -> io::Result<()> {
        self.change()?;
        std::os::unix::fs::symlink(target, path)
    }

    pub(super) fn rename(&self, from: &Path, to: &Path) -> io::Result<()> {
        self.change()?;
        fs::rename(from, to)
    }

    pub(super) fn remove_file(&self, path: &Path) -> io::Result<()> {
        self.change()?;
        fs::remove_file(path)
    }

    /// Removes a folder that is empty.
    pub(super) fn remove_empty(&self, path: &Path) -> io::Result<()> {
        self.change()?;
        fs::remove_dir(path)
    }

    /// Removes a file, or a folder with all that is in it. Links are removed, not followed.
    pub(super) fn remove(&self, path: &Path) -> io::Result<()> {
        if !fs::symlink_metadata(path)?.is_dir() {
            return self.remove_file(path);
        }
        for entry in fs::read_dir(path)? {
            self.remove(&entry?.path())?;
        }
        self.remove_empty(path)
    }

    /// Writes a file so that it exists completely or not at all; `unfinished` is a path in the same folder.
    pub(super) fn write(&self, path: &Path, unfinished: &Path, bytes: &[u8]) -> io::Result<()> {
        match self.remove_file(unfinished) {
            Err(error) if error.kind() != io::ErrorKind::NotFound => return Err(error),
            _ => {}
        }
        let mut file = self.create(unfinished)?;
        self.change()?;
        file.write_all(bytes)?;
        file.set_permissions(fs::Permissions::from_mode(RECORD_MODE))?;
        self.change()?;
        file.sync_all()?;
        self.rename(unfinished, path)
    }

    /// Makes a file that was not there, for its owner only.
    pub(super) fn create(&self, path: &Path) -> io::Result<File> {
        self.change()?;
        File::options().create_new(true).read(true).write(true).mode(0o600).open(path)
    }

    /// Makes sure that a folder's entries are on the disk.
    pub(super) fn sync(&self, folder: &Path) -> io::Result<()> {
        self.change()?;
        File::open(folder)?.sync_all()
    }

    /// Gives content its mode, through a handle: a path might lead elsewhere.
    pub(super) fn settle_mode(&self, content: &File) -> io::Result<()> {
        self.change()?;
        content.set_permissions(fs::Permissions::from_mode(CONTENT_MODE))
    }
}

/// Paths of a folder's entries.
pub(super) fn entries(folder: &Path) -> Result<Vec<PathBuf>, StoreError> {
    let read = fs::read_dir(folder).map_err(failed("read", folder))?;
    read.map(|entry| entry.map(|entry| entry.path()).map_err(failed("read", folder))).collect()
}
