//! Looking at a model file.

use std::io;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use deft_engine::{LoadError, facts, families};
use deft_formats::gguf::{GgufError, StoredModel};
use deft_planning::ModelShape;
use deft_protocol::manage::ModelFacts;
use thiserror::Error;

use crate::checkpoint;
use crate::store::FileRole;

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
    /// The stamp of a model's files together: the sum of their lengths, the last time one was
    /// written, and a mix of their places.
    fn of(files: &[PathBuf]) -> Result<Self, DepotError> {
        let mut stamp = Self { bytes: 0, modified_ns: i64::MIN, inode: 0 };
        for path in files {
            let metadata = regular(path)?;
            let written = metadata.mtime().saturating_mul(1_000_000_000);
            stamp.bytes += metadata.len();
            stamp.modified_ns =
                stamp.modified_ns.max(written.saturating_add(metadata.mtime_nsec()));
            stamp.inode = stamp.inode.rotate_left(7) ^ metadata.ino();
        }
        Ok(stamp)
    }

    /// Checks that the files are still the same.
    ///
    /// # Errors
    /// One vanished, or was written since.
    fn verify(&self, files: &[PathBuf]) -> Result<(), DepotError> {
        if Self::of(files)? == *self {
            return Ok(());
        }
        Err(DepotError::Changed { path: files.first().cloned().unwrap_or_default() })
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
    /// A checkpoint that is none, or is damaged.
    #[error("`{}` cannot be used: {what}", path.display())]
    Checkpoint {
        /// The file.
        path: PathBuf,
        /// Why.
        what: String,
    },
    /// It cannot be loaded as it is.
    #[error(
        "`{}` is a checkpoint: it is kept as it is, and can be loaded once it is converted to GGUF",
        path.display()
    )]
    Unconverted {
        /// The file.
        path: PathBuf,
    },
    /// It was written after it was registered.
    #[error(
        "`{}` was changed after it was registered", path.display()
    )]
    Changed {
        /// The file.
        path: PathBuf,
    },
}

pub(crate) fn read_error(path: &Path, source: io::Error) -> DepotError {
    let path = path.to_owned();
    match source.kind() {
        io::ErrorKind::NotFound => DepotError::NoFile { path },
        _ => DepotError::Read { path, source },
    }
}

/// The metadata of a regular file.
fn regular(path: &Path) -> Result<std::fs::Metadata, DepotError> {
    let metadata = std::fs::metadata(path).map_err(|source| read_error(path, source))?;
    if !metadata.is_file() {
        return Err(DepotError::NotAFile { path: path.to_owned() });
    }
    Ok(metadata)
}

pub(crate) fn refused(path: &Path, source: LoadError) -> DepotError {
    DepotError::Refused { path: path.to_owned(), source }
}

fn read(path: &Path) -> Result<StoredModel, DepotError> {
    regular(path)?;
    StoredModel::read(path).map_err(|error| match error {
        GgufError::Io(source) => read_error(path, source),
        other => refused(path, other.into()),
    })
}

/// Reads the headers of a model and checks all that can be checked without its weights. `path` is
/// its file, or the first of its parts.
///
/// # Errors
/// Why it cannot be used; nothing was recorded.
pub fn examine(path: &Path) -> Result<Examined, DepotError> {
    examine_with(path, None)
}

/// As [`examine`], with a chat template that stands in for the file's own.
///
/// # Errors
/// As [`examine`].
pub fn examine_with(path: &Path, template: Option<&str>) -> Result<Examined, DepotError> {
    if checkpoint::is_one(path) {
        regular(path)?;
        let files = checkpoint::files(path)?;
        let facts = checkpoint::read(&files)?;
        let paths: Vec<PathBuf> = files.into_iter().map(|(_, path)| path).collect();
        return Ok(Examined { facts, stamp: FileStamp::of(&paths)? });
    }
    let file = read(path)?;
    let facts = facts::read_with(&file, template).map_err(|source| refused(path, source))?;
    Ok(Examined { facts, stamp: FileStamp::of(&file.parts)? })
}

/// What a model's headers say, wherever they were read.
pub(crate) fn facts_of(stored: &StoredModel) -> Result<ModelFacts, LoadError> {
    facts::read(stored)
}

/// The files of a model that was examined, with what each is for.
///
/// # Errors
/// A file vanished, changed, or cannot be used.
pub fn files_of(path: &Path, stamp: &FileStamp) -> Result<Vec<(FileRole, PathBuf)>, DepotError> {
    if checkpoint::is_one(path) {
        return checkpoint::files(path);
    }
    let (_, parts) = shape_of(path, stamp)?;
    Ok(parts.into_iter().map(|part| (FileRole::Weights, part)).collect())
}

/// The sizes of a model, for planning, and its files; they must still be those with this stamp.
///
/// # Errors
/// A file vanished, changed, or cannot be used.
pub fn shape_of(path: &Path, stamp: &FileStamp) -> Result<(ModelShape, Vec<PathBuf>), DepotError> {
    if checkpoint::is_one(path) {
        return Err(DepotError::Unconverted { path: path.to_owned() });
    }
    let changed = || DepotError::Changed { path: path.to_owned() };
    let file = read(path).map_err(|error| match error {
        // It was taken in once, so it must have been written since.
        DepotError::Refused { .. } => changed(),
        other => other,
    })?;
    stamp.verify(&file.parts)?;
    let shape = families::shape(&file.header).map_err(|source| refused(path, source))?;
    Ok((shape, file.parts))
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
        let other = message("golden/bad/41-unknown-architecture.gguf");
        assert!(other.contains("is not supported; supported: llama"), "{other}");
    }

    #[test]
    fn a_file_that_changed_or_vanished_is_noticed() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("larkfen-desk.gguf");
        std::fs::copy(golden("golden/bad/00-valid-control.gguf"), &path).unwrap();
        let stamp = examine(&path).unwrap().stamp;
        shape_of(&path, &stamp).unwrap();
        let whole = std::fs::read(&path).unwrap();
        std::fs::write(&path, "other").unwrap();
        assert!(matches!(shape_of(&path, &stamp), Err(DepotError::Changed { .. })));
        std::fs::write(&path, whole).unwrap();
        assert!(matches!(shape_of(&path, &stamp), Err(DepotError::Changed { .. })), "written anew");
        std::fs::remove_file(&path).unwrap();
        assert!(matches!(shape_of(&path, &stamp), Err(DepotError::NoFile { .. })));
    }

    #[test]
    fn a_model_in_parts_is_one_model_and_any_part_counts() {
        let folder = tempfile::tempdir().unwrap();
        let names = (1..4).map(|part| format!("llama-{part:05}-of-00003.gguf"));
        let paths: Vec<PathBuf> = names
            .map(|name| {
                let path = folder.path().join(&name);
                std::fs::copy(golden(&format!("golden/split/{name}")), &path).unwrap();
                path
            })
            .collect();
        let examined = examine(&paths[0]).unwrap();
        assert_eq!(examined.facts.files, 3);
        let bytes: u64 = paths.iter().map(|path| path.metadata().unwrap().len()).sum();
        assert_eq!(examined.stamp.bytes, bytes);
        assert_eq!(shape_of(&paths[0], &examined.stamp).unwrap().1, paths);
        let later = std::time::SystemTime::now() + std::time::Duration::from_secs(9);
        std::fs::File::options().write(true).open(&paths[2]).unwrap().set_modified(later).unwrap();
        assert!(matches!(shape_of(&paths[0], &examined.stamp), Err(DepotError::Changed { .. })));
    }
}
