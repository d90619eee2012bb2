//! How others find a running service: a lock that only a living service holds, and a file that
//! says where it listens. The lock decides; the file may be left over from a crash.

use std::fs::{File, OpenOptions, TryLockError};
use std::io;
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

/// Where a running service is.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Presence {
    /// Its process.
    pub pid: u32,
    /// Its base address; absent while it starts.
    pub address: Option<String>,
    /// Its version.
    pub version: String,
}

/// The lock of a data directory; held as long as this lives.
#[derive(Debug)]
pub struct Held {
    _lock: File,
    data_dir: PathBuf,
}

impl Held {
    /// Takes the lock, or tells who has it.
    ///
    /// # Errors
    /// The data directory cannot be used.
    pub fn take(data_dir: &Path) -> io::Result<Result<Self, Option<Presence>>> {
        let lock = open_lock(data_dir)?;
        match lock.try_lock() {
            Ok(()) => {
                let held = Self { _lock: lock, data_dir: data_dir.to_owned() };
                held.write(None)?;
                Ok(Ok(held))
            }
            Err(TryLockError::WouldBlock) => Ok(Err(read(data_dir))),
            Err(TryLockError::Error(error)) => Err(error),
        }
    }

    /// Says where the service listens.
    ///
    /// # Errors
    /// The file cannot be written.
    pub fn announce(&self, address: &str) -> io::Result<()> {
        self.write(Some(address.to_owned()))
    }

    /// Says no longer where the service is, and keeps the lock as long as the process lives: whoever
    /// waits for the lock shall find nothing left of it.
    pub fn leave(self) {
        let _ = std::fs::remove_file(file(&self.data_dir));
        std::mem::forget(self);
    }

    fn write(&self, address: Option<String>) -> io::Result<()> {
        let presence = Presence {
            pid: std::process::id(),
            address,
            version: deft_protocol::VERSION.to_owned(),
        };
        let path = file(&self.data_dir);
        let temporary = path.with_extension("new");
        std::fs::write(&temporary, serde_json::to_vec_pretty(&presence)?)?;
        std::fs::rename(&temporary, path)
    }
}

impl Drop for Held {
    fn drop(&mut self) {
        // Left over it would be harmless: the lock decides.
        let _ = std::fs::remove_file(file(&self.data_dir));
    }
}

/// The service that holds a data directory's lock now, if any.
#[must_use]
pub fn find(data_dir: &Path) -> Option<Presence> {
    let lock = OpenOptions::new().read(true).open(lock_file(data_dir)).ok()?;
    match lock.try_lock_shared() {
        Err(TryLockError::WouldBlock) => read(data_dir),
        _ => None,
    }
}

/// Waits until no service holds the lock; blocks.
///
/// # Errors
/// The data directory cannot be used.
pub fn wait_until_gone(data_dir: &Path) -> io::Result<()> {
    match OpenOptions::new().read(true).open(lock_file(data_dir)) {
        Ok(lock) => lock.lock_shared(),
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(()),
        Err(error) => Err(error),
    }
}

fn open_lock(data_dir: &Path) -> io::Result<File> {
    OpenOptions::new().create(true).truncate(false).write(true).open(lock_file(data_dir))
}

fn lock_file(data_dir: &Path) -> PathBuf {
    data_dir.join("service.lock")
}

fn file(data_dir: &Path) -> PathBuf {
    data_dir.join("service.json")
}

fn read(data_dir: &Path) -> Option<Presence> {
    serde_json::from_slice(&std::fs::read(file(data_dir)).ok()?).ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_second_service_is_told_where_the_first_is() {
        let folder = tempfile::tempdir().unwrap();
        let held = Held::take(folder.path()).unwrap().unwrap();
        held.announce("http://127.0.0.1:1").unwrap();
        let found = Held::take(folder.path()).unwrap().unwrap_err().unwrap();
        assert_eq!(found.address.as_deref(), Some("http://127.0.0.1:1"));
        assert_eq!(find(folder.path()), Some(found));
        drop(held);
        assert_eq!(find(folder.path()), None);
        wait_until_gone(folder.path()).unwrap();
    }

    #[test]
    fn a_file_left_over_from_a_crash_is_not_believed() {
        let folder = tempfile::tempdir().unwrap();
        let stale =
            Presence { pid: 1, address: Some("http://127.0.0.1:1".into()), version: "0".into() };
        std::fs::write(file(folder.path()), serde_json::to_vec(&stale).unwrap()).unwrap();
        std::fs::write(lock_file(folder.path()), "").unwrap();
        assert_eq!(find(folder.path()), None);
    }
}
