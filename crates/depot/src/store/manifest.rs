//! What belongs to a variant, written beside its files: enough to find everything again where the
//! records are lost.

use std::fs::{self, File};
use std::io::Write;
use std::path::Path;

use deft_protocol::manage::SettingsRequest;
use serde::{Deserialize, Serialize};

use super::intake::Digest;
use super::{StoreError, failed};
use crate::name::VariantName;

/// Its name in a variant's folder.
const FILE: &str = ".deft-variant.json";
const UNFINISHED: &str = ".deft-variant.json.unfinished";
/// Of the manifest's form.
const VERSION: u32 = 1;

/// What a file is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum FileRole {
    /// The model, or a part of it.
    Weights,
    /// Turns pictures into what the model reads.
    Projector,
    /// What a checkpoint has beside its weights: settings, tokenizer.
    Config,
    /// A chat template in place of the weights' own.
    Template,
}

/// A file of a variant.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct StoredFile {
    /// What it is for.
    pub role: FileRole,
    /// Its own name.
    pub name: String,
    /// Its length.
    pub bytes: u64,
    /// The digest of its content.
    pub sha256: Digest,
    /// What its source marked this state of it with, where it told no digest.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub mark: Option<String>,
}

/// A variant that is kept in the depot.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Manifest {
    /// Of its form.
    pub version: u32,
    /// Its name.
    #[serde(with = "as_text")]
    pub name: VariantName,
    /// Its files, the model's first part first.
    pub files: Vec<StoredFile>,
    /// Where it was fetched from.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub origin: Option<Origin>,
    /// How it is loaded where nothing else is said.
    #[serde(default)]
    pub defaults: SettingsRequest,
}

/// Where a variant was fetched from.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Origin {
    /// The reference.
    pub reference: String,
    /// The state it had then, where the source has such.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub revision: Option<String>,
}

impl Manifest {
    /// Of a variant with these files.
    #[must_use]
    pub fn new(name: VariantName, files: Vec<StoredFile>) -> Self {
        Self { version: VERSION, name, files, origin: None, defaults: SettingsRequest::default() }
    }

    /// Loaded like that where nothing else is said.
    #[must_use]
    pub fn loaded_with(self, defaults: SettingsRequest) -> Self {
        Self { defaults, ..self }
    }

    /// The file with the chat template that stands in for the weights' own.
    #[must_use]
    pub fn template(&self) -> Option<&StoredFile> {
        self.files.iter().find(|file| file.role == FileRole::Template)
    }

    /// Fetched from there.
    #[must_use]
    pub fn fetched_from(self, origin: Origin) -> Self {
        Self { origin: Some(origin), ..self }
    }

    /// Bytes of all files.
    #[must_use]
    pub fn bytes(&self) -> u64 {
        self.files.iter().map(|file| file.bytes).sum()
    }

    /// The manifest in a variant's folder, if there is one that is understood.
    pub(super) fn read(folder: &Path) -> Option<Self> {
        let text = fs::read(folder.join(FILE)).ok()?;
        serde_json::from_slice(&text).ok().filter(|found: &Self| found.version == VERSION)
    }

    /// Writes it so that it is there whole or not at all.
    pub(super) fn write(&self, folder: &Path) -> Result<(), StoreError> {
        let unfinished = folder.join(UNFINISHED);
        let text = serde_json::to_vec_pretty(self).unwrap_or_default();
        let write = || {
            let mut file = File::create(&unfinished)?;
            file.write_all(&text)?;
            file.sync_all()?;
            fs::rename(&unfinished, folder.join(FILE))
        };
        write().map_err(failed("write", folder))
    }

    pub(super) fn remove(folder: &Path) -> Result<(), StoreError> {
        let path = folder.join(FILE);
        fs::remove_file(&path).map_err(failed("remove", &path))
    }
}

/// A variant's name as text.
mod as_text {
    use serde::de::Error;
    use serde::{Deserialize, Deserializer, Serializer};

    use crate::name::VariantName;

    pub(super) fn serialize<S: Serializer>(name: &VariantName, out: S) -> Result<S::Ok, S::Error> {
        out.collect_str(name)
    }

    pub(super) fn deserialize<'de, D: Deserializer<'de>>(from: D) -> Result<VariantName, D::Error> {
        String::deserialize(from)?.parse().map_err(D::Error::custom)
    }
}
