//! How others find a running service: a lock that only a living service holds, and a file that
//! says where it listens. The lock decides; the file may be left over from a crash.

use std::fs::{File, OpenOptions, TryLockError};
use std::io;
use std::os::unix::fs::{OpenOptionsExt, PermissionsExt};
use std::path::{Path, PathBuf};
use std::time::Duration;

use serde::{Deserialize, Serialize};

use crate::process::private_files::write_whole;

/// Longest time for which a check holds the lock.
const LOOKED: Duration = Duration::from_millis(5);

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
    /// Takes the lock; otherwise returns its holder.
    ///
    /// # Errors
    /// The data directory cannot be used.
    pub fn take(data_dir: &Path) -> io::Result<Result<Self, Option<Presence>>> {
        let lock = open_lock(data_dir)?;
        loop {
            match lock.try_lock() {
                Ok(()) => break,
                Err(TryLockError::Error(error)) => return Err(error),
                Err(TryLockError::WouldBlock) => {}
            }
            match lock.try_lock_shared() {
                // No service has it; another process only checks it, for a moment.
                Ok(()) => lock.unlock()?,
                Err(TryLockError::WouldBlock) => return Ok(Err(read(data_dir))),
                Err(TryLockError::Error(error)) => return Err(error),
            }
            std::thread::sleep(LOOKED);
        }
        let held = Self { _lock: lock, data_dir: data_dir.to_owned() };
        held.write(None)?;
        Ok(Ok(held))
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
        write_whole(&file(&self.data_dir), &serde_json::to_vec_pretty(&presence)?)
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
    let mut options = OpenOptions::new();
    // A process that may open the file may lock it.
    options.create(true).truncate(false).read(true).write(true).mode(0o600);
    let lock = options.open(lock_file(data_dir))?;
    lock.set_permissions(std::fs::Permissions::from_mode(0o600))?;
    Ok(lock)
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
    fn a_second_service_names_the_first() {
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
    fn somebody_who_only_looks_is_not_taken_for_a_service() {
        let folder = tempfile::tempdir().unwrap();
        drop(Held::take(folder.path()).unwrap().unwrap());
        let look = File::open(lock_file(folder.path())).unwrap();
        look.lock_shared().unwrap();
        let looked = std::thread::spawn(move || {
            std::thread::sleep(LOOKED * 20);
            drop(look);
        });
        assert!(Held::take(folder.path()).unwrap().is_ok());
        looked.join().unwrap();
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
