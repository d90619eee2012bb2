//! Taking files in: copied, cloned or moved, each with its digest.

use std::fs;
use std::io::{self, Seek, Write};
use std::os::fd::AsRawFd;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use rustix::fs::{AtFlags, CWD, FallocateFlags, fallocate, ioctl_ficlone, linkat};
use rustix::process::geteuid;

use super::digest::{Digest, Progress, digest, each_piece};
use super::error::{StoreError, failed};
use super::files::{Claims, Store};
use super::space::need_space;
use crate::named::NamedFile;

/// How a file is imported.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Taking {
    /// The file stays where it is as well.
    Copy,
    /// The file is in the depot only, once the variant is.
    Move,
}

/// Keeps content from being removed before its variant is committed.
#[derive(Debug)]
struct Claim {
    digest: Digest,
    claims: Claims,
}

impl Drop for Claim {
    fn drop(&mut self) {
        let mut claims = self.claims.lock();
        if let Some(count) = claims.get_mut(&self.digest) {
            *count -= 1;
            if *count == 0 {
                claims.remove(&self.digest);
            }
        }
    }
}

/// Imported content. It is not removed as long as this value or a variant of it exists.
#[derive(Debug)]
pub struct Taken {
    /// Its digest.
    pub sha256: Digest,
    /// Its length.
    pub bytes: u64,
    /// A file that is to be removed once the variant is committed.
    pub source_to_remove: Option<MovedSource>,
    _claim: Claim,
}

/// Where a file was that is in the depot now.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct MovedSource {
    path: PathBuf,
    device: u64,
    inode: u64,
}

impl MovedSource {
    fn of(source: &NamedFile) -> Self {
        let (device, inode) = (source.metadata.dev(), source.metadata.ino());
        Self { path: source.path.clone(), device, inode }
    }

    /// Where it was.
    #[must_use]
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Removes the file, if it is still the imported one.
    ///
    /// # Errors
    /// Another file is there by now, or the operating system refuses.
    pub fn remove(&self) -> io::Result<()> {
        let found = fs::symlink_metadata(&self.path)?;
        if (found.dev(), found.ino()) != (self.device, self.inode) {
            return Err(io::Error::other("another file has taken its place"));
        }
        fs::remove_file(&self.path)
    }
}

impl Store {
    /// Takes the content of an opened file in. Where the file system can, it is shared with the source:
    /// linked where it is moved, cloned where it is copied; else it is copied. The source stays untouched.
    ///
    /// # Errors
    /// The disk is too full, it was cancelled, or the operating system refuses; nothing is left
    /// behind then.
    pub fn take(
        &self,
        mut source: NamedFile,
        taking: Taking,
        progress: Progress<'_>,
    ) -> Result<Taken, StoreError> {
        let bytes = source.metadata.len();
        // Its header may have been read by this handle.
        source.file.rewind().map_err(failed("read", &source.path))?;
        let unfinished = self.new_incoming();
        let _ = self.disk.remove(&unfinished);
        let taken = if taking == Taking::Move && self.linked(&source, &unfinished) {
            digest(&mut source.file, &source.path, progress)
        } else {
            self.copy_in(&mut source, bytes, &unfinished, progress)
        };
        let settled = taken.and_then(|sha256| self.settle(&unfinished, sha256));
        if settled.is_err() {
            let _ = self.disk.remove(&unfinished);
        }
        let claim = settled?;
        let source_to_remove = (taking == Taking::Move).then(|| MovedSource::of(&source));
        Ok(Taken { sha256: claim.digest, bytes, source_to_remove, _claim: claim })
    }

    /// Links an opened file into `incoming`, if it is our own: another owner could still write it.
    fn linked(&self, source: &NamedFile, unfinished: &Path) -> bool {
        if source.metadata.uid() != geteuid().as_raw() || self.disk.change().is_err() {
            return false;
        }
        // By its handle: the path may lead to another file by now.
        let handle = format!("/proc/self/fd/{}", source.file.as_raw_fd());
        linkat(CWD, handle, CWD, unfinished, AtFlags::SYMLINK_FOLLOW).is_ok()
    }

    fn copy_in(
        &self,
        source: &mut NamedFile,
        bytes: u64,
        unfinished: &Path,
        progress: Progress<'_>,
    ) -> Result<Digest, StoreError> {
        let mut target = self.disk.create(unfinished).map_err(failed("make", unfinished))?;
        if ioctl_ficlone(&target, &source.file).is_ok() {
            let digest = digest(&mut target, unfinished, progress)?;
            target.sync_all().map_err(failed("write", unfinished))?;
            return Ok(digest);
        }
        need_space(&self.root, bytes)?;
        // Reserved, so that nothing else can fill the disk meanwhile; where the file system cannot,
        // writing tells.
        let _ = fallocate(&target, FallocateFlags::KEEP_SIZE, 0, bytes);
        let digest = each_piece(&mut source.file, &source.path, progress, |piece| {
            let written = self.disk.change().and_then(|()| target.write_all(piece));
            written.map_err(failed("write", unfinished))
        })?;
        let synced = self.disk.change().and_then(|()| target.sync_all());
        synced.map_err(failed("write", unfinished))?;
        Ok(digest)
    }

    /// Takes in a finished file of `incoming` whose digest is known.
    pub(crate) fn take_finished(&self, file: &Path, sha256: Digest) -> Result<Taken, StoreError> {
        let bytes = file.metadata().map_err(failed("read", file))?.len();
        let claim = self.settle(file, sha256)?;
        Ok(Taken { sha256, bytes, source_to_remove: None, _claim: claim })
    }

    /// Existing content; it is not removed as long as the returned value lives.
    #[must_use]
    pub fn hold(&self, sha256: &Digest) -> Option<Taken> {
        let mut claims = self.claims.lock();
        let bytes = self.object(sha256).metadata().ok()?.len();
        *claims.entry(*sha256).or_default() += 1;
        let claim = Claim { digest: *sha256, claims: Arc::clone(&self.claims) };
        Some(Taken { sha256: *sha256, bytes, source_to_remove: None, _claim: claim })
    }

    /// Moves finished content to its place; existing content stays.
    fn settle(&self, unfinished: &Path, digest: Digest) -> Result<Claim, StoreError> {
        let object = self.object(&digest);
        // Nothing is removed between the look and the claim.
        let mut claims = self.claims.lock();
        if object.exists() {
            self.disk.remove_file(unfinished).map_err(failed("remove", unfinished))?;
        } else {
            self.note_one(&digest)?;
            self.place(unfinished, &object)?;
        }
        *claims.entry(digest).or_default() += 1;
        Ok(Claim { digest, claims: Arc::clone(&self.claims) })
    }

    fn place(&self, unfinished: &Path, object: &Path) -> Result<(), StoreError> {
        let bucket = object.parent().unwrap_or(&self.root);
        let write = |folder: &Path| self.disk.sync(folder).map_err(failed("write", folder));
        self.disk.make_folder(bucket).map_err(failed("make", bucket))?;
        self.disk.rename(unfinished, object).map_err(failed("move", unfinished))?;
        write(bucket)?;
        write(&self.root.join("objects/sha256"))
    }
}
