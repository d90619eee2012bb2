//! The operator's key, which permits managing. Kinds of keys differ in their prefix; this is the first kind.

use std::fs::File;
use std::io::{self, Read};
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use base64::Engine;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use rustix::fs::{Mode, OFlags};
use thiserror::Error;

use crate::process::private_files::write_whole;

/// The file with the key, in the data directory.
const FILE: &str = "operator.key";
/// Prefix of an operator's key.
const BEGINNING: &str = "deft-operator-";
/// Random bytes in a key.
const CHANCE: usize = 32;
/// Longest key that is compared, in bytes.
const LONGEST: u64 = 256;

/// Why a file with a key cannot be used.
#[derive(Debug, Error)]
pub enum KeyError {
    /// Others can read it.
    #[error(
        "other users can read the key file `{}` (mode {mode:04o}). Remove it and restart the service for a new \
         key; or keep the key: chmod 600 {}", path.display(),
        path.display()
    )]
    Open {
        /// The file.
        path: PathBuf,
        /// Its mode.
        mode: u32,
    },
    /// It belongs to another user.
    #[error("the key file `{}` belongs to user {owner}; it must be your own", path.display())]
    Foreign {
        /// The file.
        path: PathBuf,
        /// Its owner.
        owner: u32,
    },
    /// There is no key in it.
    #[error(
        "the key file `{}` has no operator's key, which begins with `{BEGINNING}`; remove it and restart the \
         service for a new key", path.display()
    )]
    Empty {
        /// The file.
        path: PathBuf,
    },
    /// The operating system refuses.
    #[error("the key file `{}` cannot be used: {source}", path.display())]
    Io {
        /// The file.
        path: PathBuf,
        /// Why.
        source: io::Error,
    },
}

/// Path of the operator's key in a data directory.
#[must_use]
pub fn key_file(data_dir: &Path) -> PathBuf {
    data_dir.join(FILE)
}

/// Reads a key from a file that only its owner can read.
///
/// # Errors
/// Others can read it, it belongs to another user, or there is no key in it.
pub fn read_key(path: &Path) -> Result<String, KeyError> {
    let failed = |source: io::Error| KeyError::Io { path: path.to_owned(), source };
    let flags = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::CLOEXEC;
    let file: File =
        rustix::fs::open(path, flags, Mode::empty()).map_err(|e| failed(e.into()))?.into();
    let found = file.metadata().map_err(failed)?;
    if found.uid() != rustix::process::geteuid().as_raw() {
        return Err(KeyError::Foreign { path: path.to_owned(), owner: found.uid() });
    }
    if found.mode() & 0o077 != 0 {
        return Err(KeyError::Open { path: path.to_owned(), mode: found.mode() & 0o7777 });
    }
    let mut text = String::new();
    file.take(LONGEST).read_to_string(&mut text).map_err(failed)?;
    let key = text.trim();
    if !key.starts_with(BEGINNING) || key.len() < BEGINNING.len() + CHANCE {
        return Err(KeyError::Empty { path: path.to_owned() });
    }
    Ok(key.to_owned())
}

/// Random text made of this many bytes.
pub(super) fn drawn<const BYTES: usize>() -> io::Result<String> {
    let mut chance = [0; BYTES];
    getrandom::fill(&mut chance).map_err(io::Error::other)?;
    Ok(URL_SAFE_NO_PAD.encode(chance))
}

/// The stored form of the operator's key: enough to recognise it.
pub(crate) struct OperatorKey(blake3::Hash);

impl OperatorKey {
    /// The key of a data directory; the first start makes it.
    ///
    /// # Errors
    /// Others can read it, or it cannot be read or written.
    pub(crate) fn open(data_dir: &Path) -> Result<Self, KeyError> {
        let path = key_file(data_dir);
        if !path.exists() {
            let write = || {
                let key = format!("{BEGINNING}{}\n", drawn::<CHANCE>()?);
                write_whole(&path, key.as_bytes())
            };
            write().map_err(|source| KeyError::Io { path: path.clone(), source })?;
        }
        read_key(&path).map(|key| Self(blake3::hash(key.as_bytes())))
    }

    /// Whether a text is the key. Digests are compared in constant time.
    pub(crate) fn is(&self, text: &str) -> bool {
        text.len() as u64 <= LONGEST && blake3::hash(text.as_bytes()) == self.0
    }
}

#[cfg(test)]
mod tests {
    use std::fs::{self, Permissions};
    use std::os::unix::fs::PermissionsExt;

    use super::*;

    #[test]
    fn a_key_is_made_once_for_its_owner_only() {
        let folder = tempfile::tempdir().unwrap();
        let first = OperatorKey::open(folder.path()).unwrap();
        let path = key_file(folder.path());
        assert_eq!(path.metadata().unwrap().mode() & 0o7777, 0o600);
        let key = read_key(&path).unwrap();
        assert!(first.is(&key) && OperatorKey::open(folder.path()).unwrap().is(&key));
        assert!(!first.is(&key[1..]) && !first.is("") && !first.is(&"x".repeat(9999)));
    }

    #[test]
    fn a_key_file_that_others_can_read_is_empty_or_a_link_is_refused() {
        let folder = tempfile::tempdir().unwrap();
        let _ = OperatorKey::open(folder.path()).unwrap();
        let path = key_file(folder.path());
        for mode in [0o640, 0o604, 0o666] {
            fs::set_permissions(&path, Permissions::from_mode(mode)).unwrap();
            let refused = OperatorKey::open(folder.path()).map(drop).unwrap_err().to_string();
            assert!(refused.contains(&format!("mode {mode:04o}")), "{refused}");
            assert!(refused.contains("chmod 600"), "{refused}");
        }
        fs::set_permissions(&path, Permissions::from_mode(0o600)).unwrap();
        fs::write(&path, "").unwrap();
        assert!(matches!(read_key(&path), Err(KeyError::Empty { .. })));
        fs::remove_file(&path).unwrap();
        std::os::unix::fs::symlink("/dev/zero", &path).unwrap();
        assert!(matches!(read_key(&path), Err(KeyError::Io { .. })), "a link is not followed");
    }
}
