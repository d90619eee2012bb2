//! Digests of content, and copies that are hashed on the way.

use std::fmt;
use std::fs::File;
use std::io::{self, Read, Write};
use std::ops::ControlFlow;
use std::path::Path;
use std::str::FromStr;

use ring::digest::{Context, SHA256};
use rustix::fs::ioctl_ficlone;
use serde::{Deserialize, Serialize};

use super::error::{StoreError, failed};

/// Told of progress in bytes; breaks to cancel.
pub type Progress<'a> = &'a mut dyn FnMut(u64) -> ControlFlow<()>;

/// Bytes that are read, hashed and written at a time.
const PIECE: usize = 1 << 20;

/// A SHA-256 digest.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct Digest([u8; 32]);

impl Digest {
    /// The hashed content.
    pub(crate) fn of(hasher: Context) -> Self {
        let mut bytes = [0; 32];
        bytes.copy_from_slice(hasher.finish().as_ref());
        Self(bytes)
    }
}

impl fmt::Display for Digest {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&hex::encode(self.0))
    }
}

impl FromStr for Digest {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let mut bytes = [0; 32];
        match hex::decode_to_slice(text, &mut bytes) {
            Ok(()) => Ok(Self(bytes)),
            Err(_) => Err(format!("`{text}` is not a SHA-256 digest")),
        }
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

pub(super) fn each_piece(
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

/// Digest and length of a file.
///
/// # Errors
/// It cannot be read.
pub fn digest_of_file(path: &Path) -> Result<(Digest, u64), StoreError> {
    digest_of(path, &mut |_| ControlFlow::Continue(()))
}
