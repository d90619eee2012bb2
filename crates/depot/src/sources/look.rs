//! Looking at an offer: its headers are read, by ranges where it is on another machine, and nothing else
//! of it.

use std::path::Path;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::UNIX_EPOCH;

use deft_engine::families;
use deft_formats::gguf::{GgufError, Header, StoredModel};
use deft_planning::ModelShape;
use deft_protocol::manage::ModelFacts;
use tokio::runtime::Handle;

use super::{Content, Finder, Offer, OfferedFile, SourceError};
use crate::examine::{facts_of, refused};
use crate::remote::{RemoteError, RemoteFile, Web};

/// What an offer's headers say.
#[derive(Debug, Default)]
pub struct Looked {
    /// What the model is.
    pub facts: Option<ModelFacts>,
    /// Its sizes, for plans; nothing where it cannot be loaded as it is.
    pub shape: Option<ModelShape>,
    /// What an operator should know.
    pub notes: Vec<String>,
    /// Bytes that were read from another machine.
    pub read: u64,
}

/// Why a header was not read: the first reason counts.
type Trouble = Arc<Mutex<Option<RemoteError>>>;

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
            let note =
                "it is in the repository itself, so its header comes with the whole file only";
            return Ok(Looked { notes: vec![note.to_owned()], ..Looked::default() });
        }
        let (web, offer) = (self.web.clone(), offer.clone());
        let looked = tokio::task::spawn_blocking(move || read(&web, &offer)).await;
        looked.unwrap_or_else(|error| Err(SourceError::Wrong(error.to_string())))
    }
}

impl Finder {
    /// What tells the state of a file whose digest its source does not tell; nothing where there is
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

fn read(web: &Web, offer: &Offer) -> Result<Looked, SourceError> {
    let (trouble, counted) = (Trouble::default(), AtomicU64::new(0));
    let Some(first) = offer.files.first() else {
        return Err(SourceError::Wrong(format!("`{}` has no files", offer.path())));
    };
    let open = |path: &Path| {
        let file = offer.files.iter().find(|file| Path::new(&file.name) == path);
        let missing = || std::io::Error::new(std::io::ErrorKind::NotFound, "it is not offered");
        header(web, file.ok_or_else(missing)?, &counted, &trouble)
    };
    let name = Path::new(&first.name);
    let stored = StoredModel::read_with(name, open).map_err(|error| {
        match trouble.lock().unwrap_or_else(PoisonError::into_inner).take() {
            Some(trouble) => SourceError::Remote(trouble),
            None => SourceError::Folder(refused(name, error.into())),
        }
    })?;
    let told = |error| SourceError::Folder(refused(name, error));
    Ok(Looked {
        facts: Some(facts_of(&stored).map_err(told)?),
        shape: Some(families::shape(&stored.header).map_err(told)?),
        notes: Vec::new(),
        read: counted.load(Ordering::Relaxed),
    })
}

fn header(
    web: &Web,
    file: &OfferedFile,
    counted: &AtomicU64,
    trouble: &Trouble,
) -> Result<Header, GgufError> {
    let address = match &file.content {
        Content::Here(path) => {
            let open = std::fs::File::open(path)?;
            let bytes = open.metadata()?.len();
            return Header::read(open, bytes);
        }
        Content::Git(_) => return Err(std::io::Error::other("it is in a repository").into()),
        Content::Web(address) => address,
    };
    let note = |error: RemoteError| {
        let told = std::io::Error::other(error.to_string());
        trouble.lock().unwrap_or_else(PoisonError::into_inner).get_or_insert(error);
        told
    };
    let opened = Handle::current().block_on(RemoteFile::open(web, address)).map_err(note)?;
    let bytes = opened.bytes();
    if let Some(told) = file.bytes.filter(|told| *told != bytes) {
        let place = address.shown();
        return Err(note(RemoteError::WrongLength { place, told, found: bytes }).into());
    }
    let fetched = opened.fetched();
    let read = Header::read(opened, bytes);
    counted.fetch_add(fetched.load(Ordering::Relaxed), Ordering::Relaxed);
    match read {
        // What the wire said is more than what the reader makes of it.
        Err(GgufError::Io(error)) => match error.downcast::<RemoteError>() {
            Ok(error) => Err(note(error).into()),
            Err(error) => Err(GgufError::Io(error)),
        },
        other => other,
    }
}
