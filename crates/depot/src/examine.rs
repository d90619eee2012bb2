//! Looking at a model file.

use std::fs::File;
use std::io;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use deft_engine::{LoadError, facts, families};
use deft_formats::gguf::Header;
use deft_planning::ModelShape;
use deft_protocol::manage::ModelFacts;
use thiserror::Error;

/// What tells that a file is still the one that was looked at.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct FileStamp {
    /// Its length.
    pub bytes: u64,
    /// When it was last written, in nanoseconds of Unix time.
    pub modified_ns: i64,
    /// Its place in the file system.
    pub inode: u64,
}

impl FileStamp {
    fn of(file: &File) -> io::Result<Self> {
        let metadata = file.metadata()?;
        Ok(Self {
            bytes: metadata.len(),
            modified_ns: metadata.mtime().saturating_mul(1_000_000_000) + metadata.mtime_nsec(),
            inode: metadata.ino(),
        })
    }

    /// Checks that the file at `path` is still the same.
    ///
    /// # Errors
    /// It vanished, or was written since.
    pub fn verify(&self, path: &Path) -> Result<(), DepotError> {
        if Self::of(&open(path)?).map_err(|source| read_error(path, source))? == *self {
            Ok(())
        } else {
            Err(DepotError::Changed { path: path.to_owned() })
        }
    }
}

/// What was found in a file.
#[derive(Debug, Clone)]
pub struct Examined {
    /// What the file says of itself.
    pub facts: ModelFacts,
    /// What tells that it is still the same.
    pub stamp: FileStamp,
}

/// Why a file is not taken into the depot.
#[derive(Debug, Error)]
pub enum DepotError {
    /// There is no such file.
    #[error("there is no file `{}`", path.display())]
    NoFile {
        /// Where it was looked for.
        path: PathBuf,
    },
    /// It is no regular file.
    #[error("`{}` is not a file", path.display())]
    NotAFile {
        /// What was named.
        path: PathBuf,
    },
    /// The operating system refused.
    #[error("cannot read `{}`: {source}", path.display())]
    Read {
        /// The file.
        path: PathBuf,
        /// What the operating system says.
        source: io::Error,
    },
    /// It cannot be loaded here.
    #[error("`{}` is refused: {source}", path.display())]
    Refused {
        /// The file.
        path: PathBuf,
        /// Why.
        source: LoadError,
    },
    /// It was written after it was registered.
    #[error(
        "`{}` was changed after it was registered; register it again: deft depot register {}",
        path.display(), path.display()
    )]
    Changed {
        /// The file.
        path: PathBuf,
    },
}

fn read_error(path: &Path, source: io::Error) -> DepotError {
    let path = path.to_owned();
    match source.kind() {
        io::ErrorKind::NotFound => DepotError::NoFile { path },
        _ => DepotError::Read { path, source },
    }
}

fn open(path: &Path) -> Result<File, DepotError> {
    let metadata = std::fs::metadata(path).map_err(|source| read_error(path, source))?;
    if !metadata.is_file() {
        return Err(DepotError::NotAFile { path: path.to_owned() });
    }
    File::open(path).map_err(|source| read_error(path, source))
}

fn header(path: &Path) -> Result<(Header, FileStamp), DepotError> {
    let file = open(path)?;
    let stamp = FileStamp::of(&file).map_err(|source| read_error(path, source))?;
    let refused = |source: LoadError| DepotError::Refused { path: path.to_owned(), source };
    let header = Header::read(file, stamp.bytes).map_err(|error| refused(error.into()))?;
    Ok((header, stamp))
}

/// Reads a file's header and checks all that can be checked without its weights.
///
/// # Errors
/// Why it cannot be used; nothing was recorded.
pub fn examine(path: &Path) -> Result<Examined, DepotError> {
    let (header, stamp) = header(path)?;
    let facts = facts::read(&header)
        .map_err(|source| DepotError::Refused { path: path.to_owned(), source })?;
    Ok(Examined { facts, stamp })
}

/// The sizes of a file's model, for planning; the file must still be the one with this stamp.
///
/// # Errors
/// It vanished, changed, or cannot be used.
pub fn shape_of(path: &Path, stamp: &FileStamp) -> Result<ModelShape, DepotError> {
    stamp.verify(path)?;
    let (header, _) = header(path)?;
    families::shape(&header).map_err(|source| DepotError::Refused { path: path.to_owned(), source })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn golden(name: &str) -> PathBuf {
        Path::new(env!("CARGO_MANIFEST_DIR")).join("../..").join(name)
    }

    #[test]
    fn facts_of_the_demo_model_are_read_from_its_file() {
        let examined = examine(&golden("demo/larkfen-desk/larkfen-desk-q8_0.gguf")).unwrap();
        insta::assert_debug_snapshot!(ModelFacts { template: None, ..examined.facts });
    }

    #[test]
    fn files_that_are_none_or_of_no_use_are_refused_with_the_reason() {
        let message = |name: &str| examine(&golden(name)).unwrap_err().to_string();
        assert!(message("demo/nothing.gguf").contains("there is no file"));
        assert!(message("demo").contains("is not a file"));
        assert!(message("demo/README.md").contains("not a GGUF file"));
        assert!(message("golden/bad/04-truncated-data.gguf").contains("cut short"));
        let other = message("demo/larkfen-find/larkfen-find-q8_0.gguf");
        assert!(other.contains("family `bert` is not supported; supported: llama"), "{other}");
    }

    #[test]
    fn a_file_that_changed_or_vanished_is_noticed() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("larkfen-desk.gguf");
        std::fs::copy(golden("golden/bad/00-valid-control.gguf"), &path).unwrap();
        let stamp = examine(&path).unwrap().stamp;
        stamp.verify(&path).unwrap();
        shape_of(&path, &stamp).unwrap();
        std::fs::write(&path, "other").unwrap();
        assert!(matches!(stamp.verify(&path), Err(DepotError::Changed { .. })));
        std::fs::remove_file(&path).unwrap();
        assert!(matches!(stamp.verify(&path), Err(DepotError::NoFile { .. })));
    }
}
