//! Free disk space.

use std::path::Path;

use deft_planning::Bytes;
use rustix::fs::statvfs;

use super::error::{StoreError, failed};

/// Free bytes of the file system that a folder is on.
pub(super) fn free_space(folder: &Path) -> Result<u64, StoreError> {
    let found = statvfs(folder).map_err(|error| failed("look at", folder)(error.into()))?;
    Ok(found.f_bavail.saturating_mul(found.f_frsize))
}

/// Checks that there is enough space for that many bytes.
pub(crate) fn need_space(folder: &Path, bytes: u64) -> Result<(), StoreError> {
    let free = free_space(folder)?;
    if bytes <= free {
        return Ok(());
    }
    Err(StoreError::NoSpace {
        path: folder.to_owned(),
        free: Bytes(free),
        need: Bytes(bytes),
        missing: Bytes(bytes - free),
    })
}
