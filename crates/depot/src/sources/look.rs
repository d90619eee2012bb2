//! Looking at an offer: its headers are read, by ranges where it is on another machine, and nothing else
//! of it.

use std::io::{self, Read, Seek, SeekFrom};
use std::os::unix::fs::FileExt;
use std::path::Path;
use std::sync::atomic::Ordering;
use std::time::UNIX_EPOCH;

use deft_planning::ModelShape;
use deft_protocol::manage::ModelFacts;
use tokio::runtime::Handle;

use super::{Content, Finder, Offer, OfferedFile, SourceError};
use crate::examine::{DepotError, refused};
use crate::headers::{HeaderAnswer, HeaderTask, NumberedFiles};
use crate::named::NamedFile;
use crate::remote::{RemoteError, RemoteFile, Web};
use crate::store::FileRole;

/// What an offer's headers say.
#[derive(Debug, Default)]
pub struct Looked {
    /// What the model is.
    pub facts: Option<ModelFacts>,
    /// Its sizes, for plans; none if it must be converted first.
    pub shape: Option<ModelShape>,
    /// What an operator should know.
    pub notes: Vec<String>,
    /// Bytes that were read from another machine.
    pub read: u64,
}

impl Finder {
    /// Reads the headers of an offer.
    ///
    /// # Errors
    /// They cannot be read, or the model cannot be used here.
    pub async fn look(&self, offer: &Offer) -> Result<Looked, SourceError> {
        if !offer.is_gguf() {
            return super::checkpoint::look(self, offer).await;
        }
        let in_git = |file: &OfferedFile| matches!(file.content, Content::Git(_));
        if offer.files.iter().any(in_git) {
            let note = "the file is in the repository itself, so its header can only be read with the whole file";
            return Ok(Looked { notes: vec![note.to_owned()], ..Looked::default() });
        }
        let (finder, offer) = (self.clone(), offer.clone());
        let looked = tokio::task::spawn_blocking(move || read(&finder, &offer)).await;
        looked.unwrap_or_else(|error| Err(SourceError::Wrong(error.to_string())))
    }
}

impl Finder {
    /// Identifies the state of a file whose source announces no digest; none if there is
    /// nothing to go by.
    pub async fn mark(&self, file: &OfferedFile) -> Option<String> {
        match &file.content {
            Content::Web(address) => {
                let looked = self.web.look(address).await.ok()?;
                Some(format!("{} {}", looked.mark?.0, looked.total?))
            }
            Content::Git(blob) => Some(blob.id().to_owned()),
            Content::Here(path) => {
                let found = path.metadata().ok()?;
                let written = found.modified().ok()?.duration_since(UNIX_EPOCH).ok()?;
                Some(format!("{} {}", written.as_nanos(), found.len()))
            }
        }
    }
}

fn read(finder: &Finder, offer: &Offer) -> Result<Looked, SourceError> {
    let mut files = OfferedFiles::new(finder.web.clone(), offer.files.clone());
    let names = offer.files.iter().map(|file| file.name.clone()).collect();
    let task = HeaderTask::Model { names, template: None, facts: true, shape: true };
    match (finder.reader.read(&task, &mut files), files.trouble.take()) {
        (Ok(HeaderAnswer::Model { facts, shape, .. }), _) => Ok(Looked {
            facts: facts.map(|facts| *facts),
            shape,
            notes: Vec::new(),
            read: files.read(),
        }),
        (Ok(_), _) => Err(SourceError::Wrong(format!("`{}` cannot be read", offer.path()))),
        (Err(_), Some(trouble)) => Err(trouble),
        (Err(error), None) => {
            let name = offer.files.first().map_or("", |file| &file.name);
            Err(SourceError::Folder(refused(Path::new(name), error)))
        }
    }
}

/// The files of an offer, wherever they are.
pub(super) struct OfferedFiles {
    web: Web,
    files: Vec<OfferedFile>,
    opened: Vec<Option<OpenedOffer>>,
    /// Why the one that was opened last was not read.
    pub(super) trouble: Option<SourceError>,
}

enum OpenedOffer {
    Here(NamedFile),
    Remote(Box<RemoteFile>),
    /// A file that must be pulled whole.
    Whole(Vec<u8>),
}

impl OfferedFiles {
    pub(super) fn new(web: Web, files: Vec<OfferedFile>) -> Self {
        let opened = files.iter().map(|_| None).collect();
        Self { web, files, opened, trouble: None }
    }

    /// Bytes that came from another machine so far.
    pub(super) fn read(&self) -> u64 {
        let remote = self.opened.iter().flatten().filter_map(|opened| match opened {
            OpenedOffer::Remote(remote) => Some(remote.fetched().load(Ordering::Relaxed)),
            _ => None,
        });
        remote.sum()
    }

    fn opened(&self, file: &OfferedFile) -> Result<(OpenedOffer, u64), SourceError> {
        let whole = |bytes: Vec<u8>| {
            let length = bytes.len() as u64;
            (OpenedOffer::Whole(bytes), length)
        };
        let handle = Handle::current();
        match &file.content {
            Content::Here(path) => {
                let file = NamedFile::open(path).map_err(DepotError::from)?;
                let bytes = file.metadata.len();
                Ok((OpenedOffer::Here(file), bytes))
            }
            Content::Git(blob) => handle.block_on(blob.read()).map(whole),
            Content::Web(address) if file.role == FileRole::Config => {
                Ok(whole(handle.block_on(self.web.document(address))?.into()))
            }
            Content::Web(address) => {
                let remote = handle.block_on(RemoteFile::open(&self.web, address))?;
                let bytes = RemoteFile::bytes(&remote);
                if let Some(announced) = file.bytes.filter(|announced| *announced != bytes) {
                    let place = address.shown();
                    return Err(RemoteError::WrongLength { place, announced, found: bytes }.into());
                }
                Ok((OpenedOffer::Remote(Box::new(remote)), bytes))
            }
        }
    }

    fn note(&mut self, error: SourceError) -> io::Error {
        let passed_on = io::Error::other(error.to_string());
        self.trouble = Some(error);
        passed_on
    }
}

impl NumberedFiles for OfferedFiles {
    fn open(&mut self, number: u32) -> io::Result<u64> {
        let number = number as usize;
        self.trouble = None;
        let file = self
            .files
            .get(number)
            .ok_or_else(|| io::Error::new(io::ErrorKind::NotFound, "it is not offered"))?;
        match self.opened(file) {
            Ok((opened, bytes)) => {
                self.opened[number] = Some(opened);
                Ok(bytes)
            }
            Err(error) => Err(self.note(error)),
        }
    }

    fn read_at(&mut self, number: u32, at: u64, target: &mut [u8]) -> io::Result<usize> {
        let opened = self.opened.get_mut(number as usize).and_then(Option::as_mut);
        let read = match opened.ok_or(io::ErrorKind::NotFound)? {
            OpenedOffer::Here(file) => return file.file.read_at(target, at),
            OpenedOffer::Whole(bytes) => {
                let from = usize::try_from(at).unwrap_or(usize::MAX).min(bytes.len());
                return (&bytes[from..]).read(target);
            }
            OpenedOffer::Remote(remote) => {
                remote.seek(SeekFrom::Start(at)).and_then(|_| remote.read(target))
            }
        };
        // What the wire said is more than what the reader makes of it.
        read.map_err(|error| match error.downcast::<RemoteError>() {
            Ok(error) => self.note(error.into()),
            Err(error) => error,
        })
    }
}
