//! Taking files in: copied, cloned or moved, each with its digest.

use std::collections::BTreeMap;
use std::fmt;
use std::fs::{self, File};
use std::io::{self, Read, Seek, Write};
use std::os::fd::AsRawFd;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::str::FromStr;
use std::sync::Arc;

use deft_planning::Bytes;
use parking_lot::Mutex;
use ring::digest::{Context, SHA256};
use rustix::fs::{AtFlags, CWD, FallocateFlags, fallocate, ioctl_ficlone, linkat, statvfs};
use rustix::process::geteuid;
use serde::{Deserialize, Serialize};

use super::{Progress, Store, StoreError, failed};
use crate::named::NamedFile;

/// Bytes that are read, hashed and written at a time.
const PIECE: usize = 1 << 20;

/// A SHA-256 digest.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct Digest([u8; 32]);

impl Digest {
    /// What was hashed.
    pub(crate) fn of(hasher: Context) -> Self {
        let mut bytes = [0; 32];
        bytes.copy_from_slice(hasher.finish().as_ref());
        Self(bytes)
    }
}

impl fmt::Display for Digest {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.iter().try_for_each(|byte| write!(f, "{byte:02x}"))
    }
}

impl FromStr for Digest {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let wrong = || format!("`{text}` is not a SHA-256 digest");
        if text.len() != 64 || !text.is_ascii() {
            return Err(wrong());
        }
        let mut bytes = [0; 32];
        for (byte, at) in bytes.iter_mut().zip((0..64).step_by(2)) {
            *byte = u8::from_str_radix(&text[at..at + 2], 16).map_err(|_| wrong())?;
        }
        Ok(Self(bytes))
    }
}

impl TryFrom<String> for Digest {
    type Error = String;

    fn try_from(text: String) -> Result<Self, String> {
        text.parse()
    }
}

impl From<Digest> for String {
    fn from(digest: Digest) -> Self {
        digest.to_string()
    }
}

/// How a file is taken in.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Taking {
    /// The file stays where it is as well.
    Copy,
    /// The file is in the depot only, once the variant is.
    Move,
}

/// Digests with how often each is claimed.
pub(super) type Claims = Arc<Mutex<BTreeMap<Digest, usize>>>;

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

/// A file that was taken in; its content stays as long as this lives, or its variant.
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

    /// Removes the file, if it is still the one that was taken in.
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

    /// Links an opened file into `incoming`, where it is ours: another owner could go on writing it.
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

    /// Content that is here already, kept as long as what is returned lives.
    #[must_use]
    pub fn hold(&self, sha256: &Digest) -> Option<Taken> {
        let mut claims = self.claims.lock();
        let bytes = self.object(sha256).metadata().ok()?.len();
        *claims.entry(*sha256).or_default() += 1;
        let claim = Claim { digest: *sha256, claims: Arc::clone(&self.claims) };
        Some(Taken { sha256: *sha256, bytes, source_to_remove: None, _claim: claim })
    }

    /// Puts finished content in its place; content that is there already is kept.
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

/// Copies and hashes.
fn copy(
    from: &mut File,
    source: &Path,
    to: &mut File,
    target: &Path,
    progress: Progress<'_>,
) -> Result<Digest, StoreError> {
    each_piece(from, source, progress, |piece| to.write_all(piece).map_err(failed("write", target)))
}

/// The digest of all that is left of a file.
pub(super) fn digest(
    file: &mut File,
    path: &Path,
    progress: Progress<'_>,
) -> Result<Digest, StoreError> {
    each_piece(file, path, progress, |_| Ok(()))
}

/// Digest and length of a file.
pub(crate) fn digest_of(path: &Path, progress: Progress<'_>) -> Result<(Digest, u64), StoreError> {
    let mut file = File::open(path).map_err(failed("open", path))?;
    let bytes = file.metadata().map_err(failed("read", path))?.len();
    Ok((digest(&mut file, path, progress)?, bytes))
}

fn each_piece(
    file: &mut File,
    path: &Path,
    progress: Progress<'_>,
    mut take: impl FnMut(&[u8]) -> Result<(), StoreError>,
) -> Result<Digest, StoreError> {
    let mut piece = vec![0; PIECE];
    let mut hasher = Context::new(&SHA256);
    loop {
        let length = match file.read(&mut piece) {
            Ok(0) => return Ok(Digest::of(hasher)),
            Ok(length) => length,
            Err(error) if error.kind() == io::ErrorKind::Interrupted => continue,
            Err(error) => return Err(failed("read", path)(error)),
        };
        hasher.update(&piece[..length]);
        take(&piece[..length])?;
        if progress(length as u64).is_break() {
            return Err(StoreError::Cancelled);
        }
    }
}

/// Copies content out of the depot into a new file, sharing it where the file system can.
pub(super) fn copy_out(
    object: &Path,
    mut out: File,
    target: &Path,
    progress: Progress<'_>,
) -> Result<(), StoreError> {
    let mut file = File::open(object).map_err(failed("open", object))?;
    if ioctl_ficlone(&out, &file).is_err() {
        copy(&mut file, object, &mut out, target, progress)?;
    }
    out.sync_all().map_err(failed("write", target))
}

/// Free bytes of the file system that a folder is on.
pub(super) fn free_space(folder: &Path) -> Result<u64, StoreError> {
    let found = statvfs(folder).map_err(|error| failed("look at", folder)(error.into()))?;
    Ok(found.f_bavail.saturating_mul(found.f_frsize))
}

/// Makes sure that there is room for so many bytes.
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
