//! Reading the headers of unchecked files, and rendering their templates.
//!
//! What a header says is decided by [`answer`], which sees files only through [`NumberedFiles`]. Where it
//! runs is decided by whoever gives a [`HeaderReader`]: the service lets a process without permissions do it
//! ([`link`]), for a header is written by strangers.

use std::io::{self, Read, Seek, SeekFrom};
use std::path::Path;

use deft_engine::{LoadError, facts, families};
use deft_formats::gguf::{GgufError, Header, StoredModel};
use deft_planning::ModelShape;
use deft_protocol::manage::ModelFacts;
use serde::{Deserialize, Serialize};
use thiserror::Error;

use crate::checkpoint;

pub mod link;
pub(crate) mod local;

/// Longest settings of a checkpoint in bytes.
const LONGEST_CONFIG: u64 = 4 << 20;

/// The requested reading.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum HeaderTask {
    /// A GGUF model.
    Model {
        /// Paths of its files by their numbers, the first part first; others may be missing.
        names: Vec<String>,
        /// The chat template that replaces the file's own.
        template: Option<String>,
        /// Whether its facts are wanted: they take the tokenizer, and a rendered sample.
        facts: bool,
        /// Whether its sizes are wanted.
        shape: bool,
    },
    /// A checkpoint.
    Checkpoint {
        /// The numbers of the files that hold its weights.
        weights: Vec<u32>,
        /// The index of its settings, if there are any.
        config: Option<u32>,
        /// Whether settings that cannot be used only leave gaps.
        config_may_fail: bool,
    },
    /// A GGUF image projector, which is file 0.
    Projector,
}

/// The result of a reading.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum HeaderAnswer {
    /// Of a model.
    Model {
        /// Its facts, if requested.
        facts: Option<Box<ModelFacts>>,
        /// Its sizes, if requested.
        shape: Option<ModelShape>,
        /// In how many files it is.
        parts: u32,
    },
    /// Of a checkpoint.
    Checkpoint(Box<ModelFacts>),
    /// Of an image projector: the family that it says it belongs to.
    Projector(Option<String>),
}

/// Why a file cannot be used.
#[derive(Debug, Clone, PartialEq, Eq, Error, Serialize, Deserialize)]
#[error("{what}")]
pub struct Refusal {
    /// In words.
    pub what: String,
    /// The kind of it.
    pub kind: RefusalKind,
    /// The number of the file that it is about.
    pub file: u32,
}

/// Kinds of refusals.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum RefusalKind {
    /// The file says what cannot be.
    Content,
    /// Its family is not built here.
    Family(String),
    /// A part is missing, or of another model.
    Parts,
    /// It could not be read.
    Reading,
    /// The process that reads it came to an end, or did not answer.
    Process,
}

impl Refusal {
    /// A refusal of the first file.
    pub fn new(kind: RefusalKind, what: impl Into<String>) -> Self {
        Self { what: what.into(), kind, file: 0 }
    }
}

impl From<LoadError> for Refusal {
    fn from(error: LoadError) -> Self {
        let kind = match &error {
            LoadError::Family { family } => RefusalKind::Family(family.clone()),
            LoadError::Gguf(GgufError::Split { .. }) => RefusalKind::Parts,
            LoadError::Gguf(GgufError::Io(_)) => RefusalKind::Reading,
            _ => RefusalKind::Content,
        };
        Self::new(kind, error.to_string())
    }
}

/// Files that may be read, by their numbers. Whoever implements it knows why one cannot be read; its errors
/// need only a text.
pub trait NumberedFiles {
    /// Opens a file; returns its length in bytes.
    ///
    /// # Errors
    /// It is not there, or cannot be read.
    fn open(&mut self, number: u32) -> io::Result<u64>;

    /// Reads from a file that was opened, from a byte on; returns how much was read, 0 at its end.
    ///
    /// # Errors
    /// It was not opened, or cannot be read.
    fn read_at(&mut self, number: u32, at: u64, target: &mut [u8]) -> io::Result<usize>;
}

/// Where headers are read.
pub trait HeaderReader: std::fmt::Debug + Send + Sync {
    /// Reads headers. Blocks.
    ///
    /// # Errors
    /// Why the files cannot be used.
    fn read(
        &self,
        task: &HeaderTask,
        files: &mut dyn NumberedFiles,
    ) -> Result<HeaderAnswer, Refusal>;
}

/// Reads headers in this process: for files that are trusted, and for tests.
#[derive(Debug, Clone, Copy)]
pub struct InThisProcess;

impl HeaderReader for InThisProcess {
    fn read(
        &self,
        task: &HeaderTask,
        files: &mut dyn NumberedFiles,
    ) -> Result<HeaderAnswer, Refusal> {
        answer(task, files)
    }
}

/// Reads what a task wants.
///
/// # Errors
/// Why the files cannot be used.
pub fn answer(task: &HeaderTask, files: &mut dyn NumberedFiles) -> Result<HeaderAnswer, Refusal> {
    match task {
        HeaderTask::Model { names, template, facts, shape } => {
            let stored = model(names, files)?;
            let facts =
                facts.then(|| facts::read_with(&stored, template.as_deref())).transpose()?;
            let shape = shape.then(|| families::shape(&stored.header)).transpose()?;
            let parts = u32::try_from(stored.parts.len()).unwrap_or(u32::MAX);
            Ok(HeaderAnswer::Model { facts: facts.map(Box::new), shape, parts })
        }
        HeaderTask::Checkpoint { weights, config, config_may_fail } => {
            let settings = match config.map(|number| settings(number, files)) {
                None => serde_json::Value::Null,
                Some(Err(_)) if *config_may_fail => serde_json::Value::Null,
                Some(read) => read?,
            };
            let mut tensors = Vec::new();
            for number in weights {
                let wrong = |what: String| Refusal {
                    file: *number,
                    ..Refusal::new(RefusalKind::Content, what)
                };
                let opened =
                    Opened::new(files, *number).map_err(|error| wrong(error.to_string()))?;
                let bytes = opened.bytes;
                let found = deft_formats::safetensors::tensors(opened, bytes);
                tensors.extend(found.map_err(|error| wrong(error.to_string()))?);
            }
            let count = u32::try_from(weights.len()).unwrap_or(u32::MAX);
            Ok(HeaderAnswer::Checkpoint(Box::new(checkpoint::facts(&settings, &tensors, count))))
        }
        HeaderTask::Projector => {
            let header = header(files, 0).map_err(LoadError::from)?;
            let family = header.metadata.optional_text("general.architecture");
            Ok(HeaderAnswer::Projector(family.ok().flatten().map(str::to_owned)))
        }
    }
}

fn model(names: &[String], files: &mut dyn NumberedFiles) -> Result<StoredModel, Refusal> {
    let first = names.first().map_or("", |name| name);
    let stored = StoredModel::read_with(Path::new(first), |part| {
        let number = names.iter().position(|name| Path::new(name) == part);
        let number = number.and_then(|number| u32::try_from(number).ok());
        header(files, number.ok_or_else(|| io::Error::from(io::ErrorKind::NotFound))?)
    });
    stored.map_err(|error| LoadError::from(error).into())
}

fn header(files: &mut dyn NumberedFiles, number: u32) -> Result<Header, GgufError> {
    let opened = Opened::new(files, number)?;
    let bytes = opened.bytes;
    Header::read(opened, bytes)
}

/// The settings of a checkpoint.
fn settings(number: u32, files: &mut dyn NumberedFiles) -> Result<serde_json::Value, Refusal> {
    let wrong = |what: String| Refusal { file: number, ..Refusal::new(RefusalKind::Content, what) };
    let opened = Opened::new(files, number).map_err(|error| wrong(error.to_string()))?;
    if opened.bytes > LONGEST_CONFIG {
        return Err(wrong(format!("it is longer than {LONGEST_CONFIG} bytes")));
    }
    let read = io::BufReader::new(opened.take(LONGEST_CONFIG));
    serde_json::from_reader(read).map_err(|error| wrong(error.to_string()))
}

/// One of the files, as what reads files expects it.
struct Opened<'f> {
    files: &'f mut dyn NumberedFiles,
    number: u32,
    at: u64,
    bytes: u64,
}

impl<'f> Opened<'f> {
    fn new(files: &'f mut dyn NumberedFiles, number: u32) -> io::Result<Self> {
        let bytes = files.open(number)?;
        Ok(Self { files, number, at: 0, bytes })
    }
}

impl Read for Opened<'_> {
    fn read(&mut self, target: &mut [u8]) -> io::Result<usize> {
        let count = self.files.read_at(self.number, self.at, target)?;
        self.at += count as u64;
        Ok(count)
    }
}

impl Seek for Opened<'_> {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        self.at = sought(to, self.at, self.bytes)?;
        Ok(self.at)
    }
}

/// The new position of a reader, given its position and the length of the file.
pub(crate) fn sought(to: SeekFrom, at: u64, bytes: u64) -> io::Result<u64> {
    let to = match to {
        SeekFrom::Start(at) => Some(at),
        SeekFrom::End(by) => bytes.checked_add_signed(by),
        SeekFrom::Current(by) => at.checked_add_signed(by),
    };
    to.ok_or_else(|| io::Error::other("a position before the beginning"))
}

#[cfg(test)]
mod tests;
