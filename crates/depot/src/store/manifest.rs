//! The manifest of a variant, in the folder of its files: enough to restore everything if the
//! records are lost.

use std::fs;
use std::io::{self, Read};
use std::path::Path;

use deft_protocol::manage::SettingsRequest;
use serde::{Deserialize, Serialize};
use uuid::Uuid;

use super::digest::Digest;
use super::disk::Disk;
use super::error::{StoreError, failed};
use crate::name::VariantName;

/// Its name in a variant's folder.
const FILE: &str = ".deft-variant.json";
const UNFINISHED: &str = ".deft-variant.json.unfinished";
/// Of the manifest's form.
const VERSION: u32 = 1;
/// Longest manifest that is read, in bytes.
const LONGEST: u64 = 1 << 20;

/// What a file is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum FileRole {
    /// The model, or a part of it.
    Weights,
    /// Turns pictures into what the model reads.
    Projector,
    /// Other files of a checkpoint: settings, tokenizer.
    Config,
    /// A chat template in place of the weights' own.
    Template,
}

/// A file of a variant.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct StoredFile {
    /// What it is for.
    pub role: FileRole,
    /// Its own name.
    pub name: String,
    /// Its length.
    pub bytes: u64,
    /// The digest of its content.
    pub sha256: Digest,
    /// Mark of this state by its source, if the source has no digest.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub mark: Option<String>,
}

/// A variant in the depot.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Manifest {
    /// Of its form.
    pub version: u32,
    /// Stays the same when it gets another name; older versions gave none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub id: Option<Uuid>,
    /// Its name.
    #[serde(with = "as_text")]
    pub name: VariantName,
    /// Its files, the model's first part first.
    pub files: Vec<StoredFile>,
    /// Where it was fetched from.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub origin: Option<Origin>,
    /// Default settings of its loads.
    #[serde(default)]
    pub defaults: SettingsRequest,
}

/// Where a variant was fetched from.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Origin {
    /// The reference.
    pub reference: String,
    /// Its state then, if the source has states.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub revision: Option<String>,
}

impl Manifest {
    /// Of a variant with these files.
    #[must_use]
    pub fn new(name: VariantName, files: Vec<StoredFile>) -> Self {
        let (id, defaults) = (Some(Uuid::now_v7()), SettingsRequest::default());
        Self { version: VERSION, id, name, files, origin: None, defaults }
    }

    /// Sets the default settings of its loads.
    #[must_use]
    pub fn loaded_with(self, defaults: SettingsRequest) -> Self {
        Self { defaults, ..self }
    }

    /// The file with the chat template that replaces the weights' own.
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

    /// Reads the manifest of a folder.
    ///
    /// # Errors
    /// It cannot be read, or is longer than any manifest.
    pub(super) fn text(folder: &Path) -> io::Result<Option<String>> {
        let file = match fs::File::open(folder.join(FILE)) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(None),
            // The folder itself is a file.
            Err(error) if error.kind() == io::ErrorKind::NotADirectory => return Ok(None),
            opened => opened?,
        };
        let mut text = String::new();
        let length = file.take(LONGEST + 1).read_to_string(&mut text)?;
        if length as u64 > LONGEST {
            return Err(io::Error::other(format!("it is longer than {LONGEST} bytes")));
        }
        Ok(Some(text))
    }

    /// The manifest in a variant's folder.
    pub(super) fn read(folder: &Path) -> ReadManifest {
        let text = match Self::text(folder) {
            Ok(Some(text)) => text,
            Ok(None) => return ReadManifest::Absent,
            Err(error) => {
                return ReadManifest::NotUnderstood(format!(
                    "its manifest cannot be read: {error}"
                ));
            }
        };
        if let Ok(AnyVersion { version }) = serde_json::from_str(&text)
            && version != VERSION
        {
            let why = format!(
                "its manifest has version {version}; this version of Deft Harbor supports {VERSION}"
            );
            return ReadManifest::NotUnderstood(why);
        }
        match serde_json::from_str::<Self>(&text) {
            Ok(manifest) if manifest.files.is_empty() => {
                ReadManifest::NotUnderstood("its manifest names no files".to_owned())
            }
            Ok(manifest) => ReadManifest::Understood(Box::new(manifest)),
            Err(error) => {
                ReadManifest::NotUnderstood(format!("its manifest is not valid: {error}"))
            }
        }
    }

    /// Writes it so that it is there whole or not at all.
    pub(super) fn write(&self, disk: &Disk, folder: &Path) -> Result<(), StoreError> {
        let text = serde_json::to_vec_pretty(self).unwrap_or_default();
        let written = disk.write(&folder.join(FILE), &folder.join(UNFINISHED), &text);
        written.map_err(failed("write", folder))
    }
}

/// Only the version, whatever else a later one writes.
#[derive(Deserialize)]
struct AnyVersion {
    version: u32,
}

/// What a variant's folder says of itself.
pub(super) enum ReadManifest {
    Understood(Box<Manifest>),
    /// There is none.
    Absent,
    /// There is one, with the reason why it is not understood.
    NotUnderstood(String),
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
