//! Where models come from: web indexes, registries, git repositories, listings, folders, addresses.
//!
//! A source is asked what it offers; an [`Offer`] says which files a variant has, how long they are,
//! their digests where the source tells, and where their content is. Nothing is fetched here but what
//! is needed to know that.

mod checkpoint;
mod choose;
mod error;
mod folder;
mod git;
mod group;
mod listing;
mod look;
mod reference;
mod registry;
mod web;

use std::collections::BTreeSet;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

use deft_planning::ModelShape;
use url::Url;

pub use error::SourceError;
pub use git::GitBlob;
pub use listing::Listing;
pub use look::Looked;
pub use reference::{Reference, ReferenceError};

use crate::headers::HeaderReader;
use crate::keyed_locks::KeyedLocks;
use crate::name::{VariantName, is_plain_part};
use crate::remote::{Access, Address, RemoteError, Web};
use crate::store::{Digest, FileRole};

/// A place that models come from.
#[derive(Debug, Clone)]
pub struct Source {
    /// Its name.
    pub name: String,
    /// Its address, as it was written.
    pub address: String,
    /// Where it is, and how it is asked.
    pub place: Location,
    /// What it is asked with.
    pub access: Access,
}

/// Where a source is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Location {
    /// A folder of a web server that has a depot index.
    Index(Url),
    /// An OCI registry, or a part of one.
    Registry(Url),
    /// A git repository, or many of them where the address has `{repo}`.
    Git(String),
    /// A hub that lists files as JSON.
    Listing(Listing),
    /// A folder of this machine.
    Folder(PathBuf),
}

/// A variant that can be had.
#[derive(Debug, Clone)]
pub struct Offer {
    /// The model as the source calls it; may have slashes.
    pub model: String,
    /// The variant as the source calls it.
    pub variant: String,
    /// What tells this state of it from later ones, where the source has such.
    pub revision: Option<String>,
    /// What the source says of it.
    pub about: About,
    /// The sizes that memory depends on, where the source tells them.
    pub shape: Option<ModelShape>,
    /// Its files, the model's first part first.
    pub files: Vec<OfferedFile>,
}

/// What a source says of a variant.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct About {
    /// In a sentence.
    pub description: Option<String>,
    /// Licence.
    pub licence: Option<String>,
    /// What it can be asked for.
    pub serves: Vec<String>,
    /// Family.
    pub family: Option<String>,
    /// Short name of its mix of tensor types.
    pub quantisation: Option<String>,
    /// Number of values in all tensors.
    pub parameters: Option<u64>,
    /// Longest context in tokens.
    pub context_length: Option<u32>,
}

/// A file of a variant that can be had.
#[derive(Debug, Clone)]
pub struct OfferedFile {
    /// What it is for.
    pub role: FileRole,
    /// Its own name, without folders.
    pub name: String,
    /// Its length, where it is told.
    pub bytes: Option<u64>,
    /// Its digest, where it is told.
    pub sha256: Option<Digest>,
    /// Where its content is.
    pub content: Content,
}

/// Where a file's content is.
#[derive(Debug, Clone)]
pub enum Content {
    /// At an address.
    Web(Address),
    /// On this machine.
    Here(PathBuf),
    /// In a git repository itself.
    Git(GitBlob),
}

impl Offer {
    /// Bytes of all files, where all are told.
    #[must_use]
    pub fn bytes(&self) -> Option<u64> {
        self.files.iter().map(|file| file.bytes).sum()
    }

    /// How it is referred to within its source.
    #[must_use]
    pub fn path(&self) -> String {
        format!("{}/{}", self.model, self.variant)
    }

    /// The name it gets in the depot where nobody gives another.
    ///
    /// # Errors
    /// Nothing usable is left of the source's names.
    pub fn name(&self) -> Result<VariantName, SourceError> {
        let clean = |text: &str| {
            let last = text.rsplit('/').next().unwrap_or(text).to_lowercase();
            let clean = last.replace(
                |letter: char| !letter.is_ascii_alphanumeric() && !"._-".contains(letter),
                "-",
            );
            clean.trim_matches(|letter: char| !letter.is_ascii_alphanumeric()).to_owned()
        };
        let text = format!("{}/{}", clean(&self.model), clean(&self.variant));
        text.parse().map_err(|error: crate::NameError| SourceError::Wrong(error.to_string()))
    }

    /// Refuses files whose names would get in each other's way, or in the depot's own.
    fn checked(self) -> Result<Self, SourceError> {
        let wrong = |what: &str, name: &str| {
            SourceError::Wrong(format!("`{}` {what}: `{name}`", self.path()))
        };
        let mut names = BTreeSet::new();
        for OfferedFile { name, .. } in &self.files {
            if name.starts_with('.') || !is_plain_part(name) {
                return Err(wrong("has a file whose name cannot be used", name));
            }
            if !names.insert(name) {
                return Err(wrong("has two files of one name", name));
            }
        }
        Ok(self)
    }

    /// Whether its weights are GGUF, and not a checkpoint that is still to be converted.
    #[must_use]
    pub fn is_gguf(&self) -> bool {
        self.files.iter().any(|file| file.name.ends_with(".gguf"))
    }
}

/// Longest time that a source is asked for something, however slowly it goes on sending.
const LONGEST: Duration = Duration::from_secs(300);

/// Waits for a source's answer, and not for ever.
async fn in_time<T>(
    source: &Source,
    answer: impl Future<Output = Result<T, SourceError>>,
) -> Result<T, SourceError> {
    tokio::time::timeout(LONGEST, answer).await.unwrap_or_else(|_| {
        let what = format!("it did not answer within {} s", LONGEST.as_secs());
        Err(RemoteError::Unreachable { place: source.address.clone(), what }.into())
    })
}

/// Asks sources.
#[derive(Debug, Clone)]
pub struct Finder {
    /// How other machines are asked.
    pub web: Web,
    /// Certificates that are trusted beside the system's.
    pub ca_file: Option<PathBuf>,
    /// Where what is known of git repositories is kept.
    pub cache: PathBuf,
    /// Where headers are read.
    pub reader: Arc<dyn HeaderReader>,
    /// Each repository is worked on by one at a time.
    locks: Arc<KeyedLocks>,
}

impl Finder {
    /// Asks like this, and keeps what is known of repositories in a folder.
    #[must_use]
    pub fn new(
        web: Web,
        ca_file: Option<PathBuf>,
        cache: PathBuf,
        reader: Arc<dyn HeaderReader>,
    ) -> Self {
        Self { web, ca_file, cache, reader, locks: Arc::default() }
    }

    /// All that a source offers.
    ///
    /// # Errors
    /// It cannot be asked, or does not list what it has.
    pub async fn catalogue(&self, source: &Source) -> Result<Vec<Offer>, SourceError> {
        in_time(source, self.listed(source)).await
    }

    async fn listed(&self, source: &Source) -> Result<Vec<Offer>, SourceError> {
        match &source.place {
            Location::Index(address) => web::offers(&self.web, address, &source.access).await,
            Location::Registry(address) => {
                registry::Registry::new(self, address, &source.access)?.catalogue().await
            }
            Location::Git(address) if !address.contains(git::REPO) => {
                git::offers(self, address, &source.access, git::own_name(address), None).await
            }
            Location::Git(_) | Location::Listing(_) => {
                Err(SourceError::NotListed { source_name: source.name.clone() })
            }
            Location::Folder(path) => folder::offers(path, Arc::clone(&self.reader)).await,
        }
    }

    /// The variant that a reference means.
    ///
    /// # Errors
    /// There is none, there are several, or the source cannot be asked.
    pub async fn resolve(
        &self,
        source: &Source,
        reference: &Reference,
    ) -> Result<Offer, SourceError> {
        in_time(source, self.meant(source, reference)).await?.checked()
    }

    async fn meant(&self, source: &Source, reference: &Reference) -> Result<Offer, SourceError> {
        let (path, revision) = (reference.path(), reference.revision());
        match &source.place {
            Location::Registry(address) => {
                let registry = registry::Registry::new(self, address, &source.access)?;
                registry.resolve(source, path, revision).await
            }
            Location::Git(address) if address.contains(git::REPO) => {
                let ask = |repo: String| async move {
                    let whole = address.replace(git::REPO, &repo);
                    git::offers(self, &whole, &source.access, &repo, revision).await
                };
                choose::in_repository(source, path, ask).await
            }
            Location::Git(address) => {
                let name = git::own_name(address);
                let offers = git::offers(self, address, &source.access, name, revision).await?;
                choose::choose(source, &offers, path)
            }
            Location::Listing(listing) => {
                let ask = |repo: String| async move {
                    listing.offers(&self.web, &source.access, &repo, revision).await
                };
                choose::in_repository(source, path, ask).await
            }
            Location::Index(_) | Location::Folder(_) => {
                choose::choose(source, &self.catalogue(source).await?, path)
            }
        }
    }

    /// What is at an address that belongs to no source.
    ///
    /// # Errors
    /// It has no file name of a model.
    pub fn at(&self, address: &Url) -> Result<Offer, SourceError> {
        web::at(address)?.checked()
    }
}

#[cfg(test)]
mod tests;
