//! Sources of models: web indexes, registries, git repositories, listings, folders, addresses.
//!
//! A source lists its offers. An [`Offer`] names the files of a variant with their lengths, their digests if the source
//! has them, and where their content is. This module fetches only what it needs for that.

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

/// A source of models.
#[derive(Debug, Clone)]
pub struct Source {
    /// Its name.
    pub name: String,
    /// Its address, as the operator wrote it.
    pub address: String,
    /// Its location, by kind.
    pub place: Location,
    /// Credentials.
    pub access: Access,
}

/// Location of a source.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Location {
    /// A folder of a web server, with a depot index.
    Index(Url),
    /// An OCI registry, or a part of one.
    Registry(Url),
    /// A git repository, or many if the address has `{repo}`.
    Git(String),
    /// A host that lists files as JSON.
    Listing(Listing),
    /// A folder on this machine.
    Folder(PathBuf),
}

/// A variant that a source offers.
#[derive(Debug, Clone)]
pub struct Offer {
    /// Name of the model in the source; may have slashes.
    pub model: String,
    /// Name of the variant in the source.
    pub variant: String,
    /// Identifies this state of the variant, if the source has states.
    pub revision: Option<String>,
    /// Description by the source.
    pub about: About,
    /// Sizes that memory depends on, if the source has them.
    pub shape: Option<ModelShape>,
    /// Its files, the model's first part first.
    pub files: Vec<OfferedFile>,
}

/// Description of a variant by its source.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct About {
    /// One sentence.
    pub description: Option<String>,
    /// Licence.
    pub licence: Option<String>,
    /// What it serves.
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

/// A file of an offered variant.
#[derive(Debug, Clone)]
pub struct OfferedFile {
    /// Its role.
    pub role: FileRole,
    /// Its name, without folders.
    pub name: String,
    /// Its length, if announced.
    pub bytes: Option<u64>,
    /// Its digest, if announced.
    pub sha256: Option<Digest>,
    /// Location of its content.
    pub content: Content,
}

/// Location of a file's content.
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
    /// Length of all files, if all are announced.
    #[must_use]
    pub fn bytes(&self) -> Option<u64> {
        self.files.iter().map(|file| file.bytes).sum()
    }

    /// Its reference within the source.
    #[must_use]
    pub fn path(&self) -> String {
        format!("{}/{}", self.model, self.variant)
    }

    /// Its default name in the depot.
    ///
    /// # Errors
    /// The source's names have no usable characters.
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

    /// Refuses files whose names collide with each other or with the depot's own files.
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

    /// Whether its weights are GGUF, not a checkpoint that must be converted.
    #[must_use]
    pub fn is_gguf(&self) -> bool {
        self.files.iter().any(|file| file.name.ends_with(".gguf"))
    }
}

/// Longest time for one request to a source, even if it keeps sending.
const LONGEST: Duration = Duration::from_secs(300);

/// Waits for a source's answer, with a time limit.
async fn in_time<T>(
    source: &Source,
    answer: impl Future<Output = Result<T, SourceError>>,
) -> Result<T, SourceError> {
    tokio::time::timeout(LONGEST, answer).await.unwrap_or_else(|_| {
        let what = format!("it did not answer within {} s", LONGEST.as_secs());
        Err(RemoteError::Unreachable { place: source.address.clone(), what }.into())
    })
}

/// Client of all kinds of sources.
#[derive(Debug, Clone)]
pub struct Finder {
    /// HTTP client.
    pub web: Web,
    /// Trusted certificates, in addition to the system's.
    pub ca_file: Option<PathBuf>,
    /// Folder for the states of git repositories.
    pub cache: PathBuf,
    /// Reader of file headers.
    pub reader: Arc<dyn HeaderReader>,
    /// Locks, so that each repository is used by one task at a time.
    locks: Arc<KeyedLocks>,
}

impl Finder {
    /// A client that stores the states of repositories in a folder.
    #[must_use]
    pub fn new(
        web: Web,
        ca_file: Option<PathBuf>,
        cache: PathBuf,
        reader: Arc<dyn HeaderReader>,
    ) -> Self {
        Self { web, ca_file, cache, reader, locks: Arc::default() }
    }

    /// All offers of a source.
    ///
    /// # Errors
    /// It cannot be reached, or does not list its offers.
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

    /// The offer that a reference means.
    ///
    /// # Errors
    /// There is none, there are several, or the source cannot be reached.
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

    /// The offer at an address that belongs to no source.
    ///
    /// # Errors
    /// It has no file name of a model.
    pub fn at(&self, address: &Url) -> Result<Offer, SourceError> {
        web::at(address)?.checked()
    }
}

#[cfg(test)]
mod tests;
