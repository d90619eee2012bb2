//! The depot index: what a folder of models offers, for others to find, judge and fetch. Its form is
//! described in `docs/formats/depot-index.md`.

use std::collections::BTreeMap;
use std::fs::{self, File};
use std::io::Write;
use std::path::{Path, PathBuf};

use deft_planning::{Bytes, ModelShape};
use serde::{Deserialize, Serialize};
use thiserror::Error;

use crate::examine::{DepotError, Examined, files_of, shape_of};
use crate::find::{Found, find_models};
use crate::headers::HeaderReader;
use crate::name::{VariantName, is_plain_path};
use crate::store::{Digest, FileRole, Progress, StoreError, digest_of};

/// Its name in the folder it describes.
pub const INDEX_FILE: &str = "depot-index.json";
/// Of its form.
const VERSION: u32 = 1;

/// What a place offers.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Index {
    depot_index: u32,
    /// What the place is called.
    pub name: String,
    /// Its models, by name.
    pub models: Vec<IndexedModel>,
}

/// A model of an index.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct IndexedModel {
    /// Its name.
    pub name: String,
    /// As its files say.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub description: Option<String>,
    /// As its files say.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub licence: Option<String>,
    /// What it serves.
    #[serde(default)]
    pub serves: Vec<String>,
    /// Its variants, by name.
    pub variants: Vec<IndexedVariant>,
}

/// A variant of a model of an index.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct IndexedVariant {
    /// Its name within the model.
    pub name: String,
    /// Family.
    pub family: String,
    /// Short name of its mix of tensor types.
    pub quantisation: String,
    /// Number of values in all tensors.
    pub parameters: u64,
    /// Longest context in tokens.
    pub context_length: u32,
    /// Sizes that memory depends on; a checkpoint has none, because it must be converted before it can be loaded.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub shape: Option<IndexedShape>,
    /// Its files, the model's first part first.
    pub files: Vec<IndexedFile>,
}

/// The sizes of a model that memory depends on.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct IndexedShape {
    layers: u32,
    heads: u32,
    kv_heads: u32,
    key_length: u32,
    value_length: u32,
    width: u32,
    feed_forward: u32,
    #[serde(default, skip_serializing_if = "is_nothing")]
    experts: u32,
    #[serde(default, skip_serializing_if = "is_nothing")]
    experts_used: u32,
    vocabulary: u32,
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    floats: bool,
    #[serde(default)]
    encoder: bool,
    tokenizer_bytes: u64,
}

#[expect(clippy::trivially_copy_pass_by_ref, reason = "what the derived code calls")]
fn is_nothing(count: &u32) -> bool {
    *count == 0
}

/// A file of a variant of an index.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct IndexedFile {
    /// What it is for.
    pub role: FileRole,
    /// Where it is, relative to the index.
    pub path: String,
    /// Its length.
    pub bytes: u64,
    /// Its digest.
    pub sha256: Digest,
}

/// Why an index cannot be used or written.
#[derive(Debug, Error)]
pub enum IndexError {
    /// It is no index.
    #[error("not a depot index: {0}")]
    NotAnIndex(#[from] serde_json::Error),
    /// It is of a later form.
    #[error("this depot index has version {0}; versions up to {VERSION} are supported")]
    Later(u32),
    /// Something in it cannot be.
    #[error("this depot index cannot be used: {0}")]
    Wrong(String),
    /// The folder cannot be read.
    #[error(transparent)]
    Depot(#[from] DepotError),
    /// A file cannot be read or written.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// There is nothing to describe.
    #[error("no model in `{}` or below it", .0.display())]
    Empty(PathBuf),
}

impl Index {
    /// Reads an index and checks all that is to be relied on.
    ///
    /// # Errors
    /// It is none, is of a later form, or has names or paths that cannot be.
    pub fn read(text: &[u8]) -> Result<Self, IndexError> {
        #[derive(Deserialize)]
        struct Head {
            depot_index: u32,
        }
        let Head { depot_index } = serde_json::from_slice(text)?;
        if depot_index != VERSION {
            return Err(IndexError::Later(depot_index));
        }
        let index: Self = serde_json::from_slice(text)?;
        for model in &index.models {
            for variant in &model.variants {
                check(&model.name, variant)?;
            }
        }
        Ok(index)
    }
}

fn check(model: &str, variant: &IndexedVariant) -> Result<(), IndexError> {
    let name = format!("{model}/{}", variant.name);
    name.parse::<VariantName>().map_err(|error| IndexError::Wrong(error.to_string()))?;
    if !variant.files.iter().any(|file| file.role == FileRole::Weights) {
        return Err(IndexError::Wrong(format!("`{name}` has no file with weights")));
    }
    if variant.model_shape().is_some_and(|shape| !shape.is_possible()) {
        return Err(IndexError::Wrong(format!("`{name}` declares sizes that no model has")));
    }
    match variant.files.iter().find(|file| !is_plain_path(&file.path)) {
        None => Ok(()),
        Some(file) => Err(IndexError::Wrong(format!(
            "`{name}` has a file at `{}`, which is outside the folder of the index",
            file.path
        ))),
    }
}

impl IndexedVariant {
    /// Bytes of all files.
    #[must_use]
    pub fn bytes(&self) -> u64 {
        self.files.iter().map(|file| file.bytes).sum()
    }

    /// The sizes, for a plan. What its layers take each is not known before the file is.
    #[must_use]
    pub fn model_shape(&self) -> Option<ModelShape> {
        let shape = self.shape?;
        let weights = self.files.iter().filter(|file| file.role == FileRole::Weights);
        Some(ModelShape {
            file: weights.map(|file| Bytes(file.bytes)).sum(),
            layers: shape.layers,
            layer_weights: Vec::new(),
            heads: shape.heads,
            kv_heads: shape.kv_heads,
            key_length: shape.key_length,
            value_length: shape.value_length,
            context_length: self.context_length,
            vocabulary: shape.vocabulary,
            width: shape.width,
            feed_forward: shape.feed_forward,
            experts: shape.experts,
            experts_used: shape.experts_used,
            floats: shape.floats,
            encoder: shape.encoder,
            tokenizer: Bytes(shape.tokenizer_bytes),
        })
    }
}

impl IndexedShape {
    fn of(shape: &ModelShape) -> Self {
        Self {
            layers: shape.layers,
            heads: shape.heads,
            kv_heads: shape.kv_heads,
            key_length: shape.key_length,
            value_length: shape.value_length,
            width: shape.width,
            feed_forward: shape.feed_forward,
            experts: shape.experts,
            experts_used: shape.experts_used,
            vocabulary: shape.vocabulary,
            floats: shape.floats,
            encoder: shape.encoder,
            tokenizer_bytes: shape.tokenizer.0,
        }
    }
}

/// What became of a folder's index.
#[derive(Debug)]
pub struct Written {
    /// The index.
    pub index: Index,
    /// Files that look like models and cannot be used, with the reason.
    pub refused: Vec<(PathBuf, DepotError)>,
}

/// Describes all models in a folder and below it, and writes that into the folder.
///
/// # Errors
/// The folder has no model, or cannot be read or written; the index that was there stays then.
pub fn write_index(
    folder: &Path,
    name: &str,
    reader: &dyn HeaderReader,
    progress: Progress<'_>,
) -> Result<Written, IndexError> {
    let mut models: BTreeMap<String, IndexedModel> = BTreeMap::new();
    let mut refused = Vec::new();
    for found in find_models(folder, reader)? {
        match found.examined {
            Ok(ref examined) => add(&mut models, folder, (&found, examined), reader, progress)?,
            Err(error) => refused.push((found.path, error)),
        }
    }
    if models.is_empty() {
        return Err(IndexError::Empty(folder.to_owned()));
    }
    let index = Index {
        depot_index: VERSION,
        name: name.to_owned(),
        models: models.into_values().collect(),
    };
    put(folder, &index)?;
    Ok(Written { index, refused })
}

fn add(
    models: &mut BTreeMap<String, IndexedModel>,
    folder: &Path,
    (found, examined): (&Found, &Examined),
    reader: &dyn HeaderReader,
    progress: Progress<'_>,
) -> Result<(), IndexError> {
    let path = &found.path;
    let facts = &examined.facts;
    let wrong = |error: &dyn std::fmt::Display| IndexError::Wrong(error.to_string());
    let name = VariantName::from_file(path, &facts.quantisation).map_err(|error| wrong(&error))?;
    let mut files = Vec::new();
    let projector = found.projector.iter().map(|path| (FileRole::Projector, path.clone()));
    for (role, part) in files_of(examined, path)?.into_iter().chain(projector) {
        files.push(describe(folder, role, &part, progress)?);
    }
    let shape = match shape_of(path, &examined.stamp, false, reader) {
        Ok((shape, _)) => Some(IndexedShape::of(&shape)),
        Err(DepotError::Unconverted { .. }) => None,
        Err(error) => return Err(error.into()),
    };
    let variant = IndexedVariant {
        name: name.variant,
        family: facts.family.clone(),
        quantisation: facts.quantisation.clone(),
        parameters: facts.parameters,
        context_length: facts.context_length,
        shape,
        files,
    };
    let model = models.entry(name.model.clone()).or_insert_with(|| IndexedModel {
        name: name.model,
        description: facts.description.clone(),
        licence: facts.licence.clone(),
        serves: facts.serves.clone(),
        variants: Vec::new(),
    });
    if model.variants.iter().any(|known| known.name == variant.name) {
        return Err(IndexError::Wrong(format!(
            "two files would both be named `{}/{}`; rename one of them: `{}`",
            model.name,
            variant.name,
            path.display()
        )));
    }
    model.variants.push(variant);
    model.variants.sort_by(|a, b| a.name.cmp(&b.name));
    Ok(())
}

fn describe(
    folder: &Path,
    role: FileRole,
    path: &Path,
    progress: Progress<'_>,
) -> Result<IndexedFile, IndexError> {
    let below = path.strip_prefix(folder).unwrap_or(path);
    let parts: Option<Vec<&str>> = below.iter().map(|part| part.to_str()).collect();
    let parts = parts
        .ok_or_else(|| IndexError::Wrong(format!("the path `{}` is not UTF-8", path.display())))?;
    let (sha256, bytes) = digest_of(path, progress)?;
    Ok(IndexedFile { role, path: parts.join("/"), bytes, sha256 })
}

/// Writes it so that it is there whole or not at all.
fn put(folder: &Path, index: &Index) -> Result<(), IndexError> {
    let unfinished = folder.join(format!("{INDEX_FILE}.unfinished"));
    let mut text = serde_json::to_vec_pretty(index)?;
    text.push(b'\n');
    let write = || {
        let mut file = File::create(&unfinished)?;
        file.write_all(&text)?;
        file.sync_all()?;
        fs::rename(&unfinished, folder.join(INDEX_FILE))
    };
    write().map_err(|source| {
        StoreError::Io { what: "write", path: folder.join(INDEX_FILE), source }.into()
    })
}

#[cfg(test)]
mod tests;
