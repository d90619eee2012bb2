//! Examining model files: their headers are read and checked, without their weights.

use std::io::{self, Read};
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use deft_planning::ModelShape;
use deft_protocol::manage::ModelFacts;
use thiserror::Error;

use crate::checkpoint;
use crate::headers::local::{LocalFiles, open, possible_parts};
use crate::headers::{HeaderAnswer, HeaderReader, HeaderTask, Refusal, RefusalKind};
use crate::named::{NamedFile, NamedFileError};
use crate::store::FileRole;

/// Longest chat template in bytes.
const LONGEST_TEMPLATE: u64 = 1 << 20;
/// The family that image projectors write.
pub(crate) const PROJECTOR: &str = "clip";

/// Identifies the state of a file, so that a change is noticed.
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
    fn of<'a>(files: impl IntoIterator<Item = &'a NamedFile>) -> Self {
        let mut stamp = Self { bytes: 0, modified_ns: i64::MIN, inode: 0 };
        for NamedFile { metadata, .. } in files {
            let written = metadata.mtime().saturating_mul(1_000_000_000);
            stamp.bytes += metadata.len();
            stamp.modified_ns =
                stamp.modified_ns.max(written.saturating_add(metadata.mtime_nsec()));
            stamp.inode = stamp.inode.rotate_left(7) ^ metadata.ino();
        }
        stamp
    }

    /// Whether a file is still the one with this stamp. The place of a stored one is not compared:
    /// restored from a backup it has another.
    fn is_still(&self, now: &Self, is_stored: bool) -> bool {
        let same_content = (self.bytes, self.modified_ns) == (now.bytes, now.modified_ns);
        same_content && (is_stored || self.inode == now.inode)
    }
}

/// The result of the examination of a file.
#[derive(Debug, Clone)]
pub struct Examined {
    /// What the file says of itself.
    pub facts: ModelFacts,
    /// The state of the file.
    pub stamp: FileStamp,
}

/// The error of a file that the depot does not accept.
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
        /// The given path.
        path: PathBuf,
    },
    /// A link in place of a file.
    #[error(transparent)]
    Link(NamedFileError),
    /// A file that was named as an image projector.
    #[error("`{}` is not an image projector: {what}", path.display())]
    NotAProjector {
        /// The file.
        path: PathBuf,
        /// Why not.
        what: String,
    },
    /// A file that was named as a chat template.
    #[error("the template `{}` cannot be used: {what}", path.display())]
    NotATemplate {
        /// The file.
        path: PathBuf,
        /// Why not.
        what: String,
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
        source: Refusal,
    },
    /// A checkpoint that is none, or is damaged.
    #[error("`{}` cannot be used: {what}", path.display())]
    Checkpoint {
        /// The file.
        path: PathBuf,
        /// Why.
        what: String,
    },
    /// It cannot be loaded.
    #[error(
        "`{}` is a checkpoint; it can be loaded after conversion to GGUF",
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

pub(crate) fn refused(path: &Path, source: Refusal) -> DepotError {
    DepotError::Refused { path: path.to_owned(), source }
}

/// A model in one file or several.
struct OpenedModel {
    facts: Option<Box<ModelFacts>>,
    shape: Option<ModelShape>,
    /// The first part first.
    files: Vec<NamedFile>,
}

impl OpenedModel {
    fn read(
        path: &Path,
        is_kept: bool,
        (template, facts, shape): (Option<&str>, bool, bool),
        reader: &dyn HeaderReader,
    ) -> Result<Self, DepotError> {
        let paths = possible_parts(path);
        let names = paths.iter().map(|path| path.to_string_lossy().into_owned()).collect();
        let template = template.map(str::to_owned);
        let task = HeaderTask::Model { names, template, facts, shape };
        let mut files = LocalFiles::at(paths, is_kept);
        match (reader.read(&task, &mut files), files.trouble) {
            (Ok(HeaderAnswer::Model { facts, shape, parts }), None) => {
                let opened: Vec<NamedFile> =
                    files.opened.into_iter().map_while(|file| file).collect();
                if opened.len() != parts as usize {
                    let what = format!(
                        "{} parts were read, but the first part declares {parts}",
                        opened.len()
                    );
                    return Err(refused(path, Refusal::new(RefusalKind::Process, what)));
                }
                Ok(Self { facts, shape, files: opened })
            }
            // A missing part has its own error.
            (Err(error @ Refusal { kind: RefusalKind::Parts, .. }), _) => Err(refused(path, error)),
            (_, Some(trouble)) => Err(trouble.into()),
            (Err(Refusal { kind: RefusalKind::Reading, what, .. }), None) => {
                Err(read_error(path, io::Error::other(what)))
            }
            (Err(error), None) => Err(refused(path, error)),
            (Ok(_), None) => Err(refused(path, unasked())),
        }
    }

    fn stamp(&self) -> FileStamp {
        FileStamp::of(&self.files)
    }
}

/// An answer that does not belong to the question.
fn unasked() -> Refusal {
    Refusal::new(RefusalKind::Process, "the file that was read is not the requested one")
}

impl From<NamedFileError> for DepotError {
    fn from(error: NamedFileError) -> Self {
        match error {
            NamedFileError::Absent(path) => Self::NoFile { path },
            NamedFileError::NotAFile(path) | NamedFileError::NotAFolder(path) => {
                Self::NotAFile { path }
            }
            NamedFileError::Io { path, source } => Self::Read { path, source },
            link @ NamedFileError::Link { .. } => Self::Link(link),
        }
    }
}

/// Reads the headers of a model and checks all that can be checked without its weights. `path` is
/// its file, or the first of its parts.
///
/// # Errors
/// Why it cannot be used; nothing was recorded.
pub fn examine(path: &Path, reader: &dyn HeaderReader) -> Result<Examined, DepotError> {
    examine_with(path, None, reader)
}

/// As [`examine`], with a chat template that replaces the file's own.
///
/// # Errors
/// As [`examine`].
pub fn examine_with(
    path: &Path,
    template: Option<&str>,
    reader: &dyn HeaderReader,
) -> Result<Examined, DepotError> {
    open_and_examine(path, template, false, reader).map(|(examined, _)| examined)
}

/// As [`examine_with`], for a file that the depot keeps: it may be a link to its content.
///
/// # Errors
/// As [`examine`].
pub fn examine_stored(
    path: &Path,
    template: Option<&str>,
    reader: &dyn HeaderReader,
) -> Result<Examined, DepotError> {
    open_and_examine(path, template, true, reader).map(|(examined, _)| examined)
}

/// As [`examine_with`]; returns the opened files too, with what each is for, the first part first.
///
/// # Errors
/// As [`examine`].
pub fn open_model(
    path: &Path,
    template: Option<&str>,
    reader: &dyn HeaderReader,
) -> Result<(Examined, Vec<(FileRole, NamedFile)>), DepotError> {
    open_and_examine(path, template, false, reader)
}

fn open_and_examine(
    path: &Path,
    template: Option<&str>,
    is_kept: bool,
    reader: &dyn HeaderReader,
) -> Result<(Examined, Vec<(FileRole, NamedFile)>), DepotError> {
    if checkpoint::is_one(path) {
        return open_checkpoint(path, is_kept, reader);
    }
    let mut model = OpenedModel::read(path, is_kept, (template, true, false), reader)?;
    let facts = *model.facts.take().ok_or_else(|| refused(path, unasked()))?;
    let stamp = model.stamp();
    let files = model.files.into_iter().map(|file| (FileRole::Weights, file));
    Ok((Examined { facts, stamp }, files.collect()))
}

fn open_checkpoint(
    path: &Path,
    is_kept: bool,
    reader: &dyn HeaderReader,
) -> Result<(Examined, Vec<(FileRole, NamedFile)>), DepotError> {
    open(path, is_kept)?;
    let files = checkpoint::files(path, |path| open(path, is_kept))?;
    let stamp = FileStamp::of(files.iter().map(|(_, file)| file));
    let (roles, files): (Vec<FileRole>, Vec<NamedFile>) = files.into_iter().unzip();
    let numbers = || (0..).zip(roles.iter().zip(&files));
    let config = numbers().find(|(_, (_, file))| file.name() == checkpoint::CONFIG);
    let task = HeaderTask::Checkpoint {
        weights: numbers()
            .filter(|(_, (role, _))| **role == FileRole::Weights)
            .map(|(number, _)| number)
            .collect(),
        config: config.map(|(number, _)| number),
        config_may_fail: false,
    };
    let mut local = LocalFiles {
        paths: files.iter().map(|file| file.path.clone()).collect(),
        is_kept,
        opened: files.into_iter().map(Some).collect(),
        trouble: None,
    };
    let facts = match reader.read(&task, &mut local) {
        Ok(HeaderAnswer::Checkpoint(facts)) => *facts,
        Ok(_) => return Err(refused(path, unasked())),
        Err(Refusal { what, file, .. }) => {
            let path = local.paths.get(file as usize).cloned().unwrap_or_else(|| path.to_owned());
            return Err(DepotError::Checkpoint { path, what });
        }
    };
    let files = roles.into_iter().zip(local.opened.into_iter().flatten());
    Ok((Examined { facts, stamp }, files.collect()))
}

/// Opens a file that must be a GGUF image projector.
///
/// # Errors
/// It is none, or cannot be opened.
pub fn open_projector(path: &Path, reader: &dyn HeaderReader) -> Result<NamedFile, DepotError> {
    let not_one = |what: String| DepotError::NotAProjector { path: path.to_owned(), what };
    let mut files = LocalFiles::of(NamedFile::open(path)?);
    let family = match reader.read(&HeaderTask::Projector, &mut files) {
        Ok(HeaderAnswer::Projector(family)) => family,
        Ok(_) => return Err(refused(path, unasked())),
        Err(Refusal { kind: RefusalKind::Reading, what, .. }) => {
            return Err(read_error(path, io::Error::other(what)));
        }
        Err(error) => return Err(not_one(error.what)),
    };
    match (family.as_deref(), files.opened.pop().flatten()) {
        (Some(PROJECTOR), Some(file)) => Ok(file),
        (Some(family), _) => Err(not_one(format!("its family is `{family}`, not `{PROJECTOR}`"))),
        _ => Err(not_one("it declares no family".to_owned())),
    }
}

/// Opens a chat template: a text of limited length.
///
/// # Errors
/// It is no such text, or cannot be opened.
pub fn open_template(path: &Path) -> Result<(NamedFile, String), DepotError> {
    let opened = NamedFile::open(path)?;
    let text = template_text(&opened)?;
    Ok((opened, text))
}

/// The text of a chat template that the depot keeps.
///
/// # Errors
/// As [`open_template`].
pub fn open_stored_template(path: &Path) -> Result<String, DepotError> {
    template_text(&open(path, true)?)
}

fn template_text(opened: &NamedFile) -> Result<String, DepotError> {
    let path = &opened.path;
    let not_one = |what: String| DepotError::NotATemplate { path: path.clone(), what };
    let mut bytes = Vec::new();
    // Its reported length may be wrong, or grow.
    let read = (&opened.file).take(LONGEST_TEMPLATE + 1).read_to_end(&mut bytes);
    let length = read.map_err(|source| read_error(path, source))?;
    if length as u64 > LONGEST_TEMPLATE {
        return Err(not_one(format!("it is longer than {LONGEST_TEMPLATE} bytes")));
    }
    String::from_utf8(bytes).map_err(|_| not_one("it is not UTF-8".to_owned()))
}

/// The files of a model that was examined, with what each is for.
///
/// # Errors
/// The folder cannot be read.
pub(crate) fn files_of(
    examined: &Examined,
    path: &Path,
) -> Result<Vec<(FileRole, PathBuf)>, DepotError> {
    if checkpoint::is_one(path) {
        return checkpoint::paths(path);
    }
    let parts = possible_parts(path).into_iter().take(examined.facts.files as usize);
    Ok(parts.map(|part| (FileRole::Weights, part)).collect())
}

/// The sizes of a model, for planning, and its files; they must still be those with this stamp.
/// `is_stored` are the depot's own files.
///
/// # Errors
/// A file vanished, changed, or cannot be used.
pub fn shape_of(
    path: &Path,
    stamp: &FileStamp,
    is_stored: bool,
    reader: &dyn HeaderReader,
) -> Result<(ModelShape, Vec<PathBuf>), DepotError> {
    if checkpoint::is_one(path) {
        return Err(DepotError::Unconverted { path: path.to_owned() });
    }
    let changed = || DepotError::Changed { path: path.to_owned() };
    // It was examined when it was registered or imported, so a link was accepted then.
    let read = OpenedModel::read(path, true, (None, false, true), reader);
    let model = read.map_err(|error| match error {
        DepotError::Refused { source: Refusal { kind: RefusalKind::Process, .. }, .. } => error,
        // It was accepted before, so it must have been written since.
        DepotError::Refused { .. } => changed(),
        other => other,
    })?;
    if !stamp.is_still(&model.stamp(), is_stored) {
        return Err(changed());
    }
    let shape = model.shape.ok_or_else(|| refused(path, unasked()))?;
    Ok((shape, model.files.into_iter().map(|file| file.path).collect()))
}

#[cfg(test)]
mod tests;
