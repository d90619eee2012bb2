//! Files of this machine whose headers are read.

use std::io;
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};

use super::NumberedFiles;
use crate::name::all_parts;
use crate::named::{NamedFile, NamedFileError};

/// How a model's file is opened. A file of the depot may be a link to its content, which the depot made.
pub(crate) fn open(path: &Path, is_kept: bool) -> Result<NamedFile, NamedFileError> {
    match NamedFile::open(path) {
        Err(NamedFileError::Link { target: Some(content), .. }) if is_kept => {
            NamedFile::open(&content).map(|file| NamedFile { path: path.to_owned(), ..file })
        }
        opened => opened,
    }
}

/// Files of this machine, each opened once: whatever is done with it is done with that handle.
pub(crate) struct LocalFiles {
    pub(crate) paths: Vec<PathBuf>,
    pub(crate) is_kept: bool,
    pub(crate) opened: Vec<Option<NamedFile>>,
    /// Why one could not be opened: the first reason counts.
    pub(crate) trouble: Option<NamedFileError>,
}

impl LocalFiles {
    /// Files at these paths, opened when they are requested.
    pub(crate) fn at(paths: Vec<PathBuf>, is_kept: bool) -> Self {
        let opened = paths.iter().map(|_| None).collect();
        Self { paths, is_kept, opened, trouble: None }
    }

    /// A file that is open.
    pub(crate) fn of(file: NamedFile) -> Self {
        Self {
            paths: vec![file.path.clone()],
            is_kept: false,
            opened: vec![Some(file)],
            trouble: None,
        }
    }
}

impl NumberedFiles for LocalFiles {
    fn open(&mut self, number: u32) -> io::Result<u64> {
        let number = number as usize;
        let path = self.paths.get(number).ok_or(io::ErrorKind::NotFound)?;
        if let Some(Some(file)) = self.opened.get(number) {
            return Ok(file.metadata.len());
        }
        match open(path, self.is_kept) {
            Ok(file) => Ok(self.opened[number].insert(file).metadata.len()),
            Err(error) => {
                let what = io::Error::other(error.to_string());
                self.trouble.get_or_insert(error);
                Err(what)
            }
        }
    }

    fn read_at(&mut self, number: u32, at: u64, target: &mut [u8]) -> io::Result<usize> {
        let opened = self.opened.get(number as usize).and_then(Option::as_ref);
        opened.ok_or(io::ErrorKind::NotFound)?.file.read_at(target, at)
    }
}

/// The paths that the parts of a model may have, its first part first.
pub(crate) fn possible_parts(first: &Path) -> Vec<PathBuf> {
    let name = first.file_name().and_then(|name| name.to_str()).unwrap_or_default();
    let others = all_parts(name).into_iter().filter(|part| part != name);
    let others = others.map(|part| first.with_file_name(part));
    std::iter::once(first.to_owned()).chain(others).collect()
}
