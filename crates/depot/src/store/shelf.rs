//! The content of `models`: variants, and folders that this version does not understand.
//!
//! A folder that is not understood (its manifest is of a later version, has fields of one, is damaged or
//! cannot be read) stays where it is. It is reported with the reason, and nothing that it may refer to is removed.

use std::collections::BTreeSet;
use std::fs;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use super::digest::Digest;
use super::disk::entries;
use super::error::StoreError;
use super::manifest::Manifest;
use super::manifest::ReadManifest;
use crate::name::VariantName;

/// Folders within a folder that is not understood are looked into so deep.
const DEPTH: u32 = 4;

/// A folder that is not understood.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NotUnderstood {
    /// Where it is.
    pub folder: PathBuf,
    /// `model/variant`, as the folders are called.
    pub name: String,
    /// Why it is not understood.
    pub why: String,
    /// Bytes of the files in it.
    pub bytes: u64,
}

/// The content of `models`.
#[derive(Debug, Default)]
pub(super) struct Shelf {
    /// Variants, by name.
    pub(super) variants: Vec<Manifest>,
    pub(super) not_understood: Vec<NotUnderstood>,
    /// Folders whose manifest has another name: an interrupted rename.
    pub(super) misnamed: Vec<VariantName>,
}

impl Shelf {
    pub(super) fn read(root: &Path) -> Result<Self, StoreError> {
        let mut shelf = Self::default();
        for model in entries(&root.join("models"))? {
            if !model.is_dir() {
                shelf.set_aside(&model, &model, "a file stands where a model's folder should");
                continue;
            }
            for variant in entries(&model)? {
                shelf.add(&model, &variant);
            }
        }
        shelf.variants.sort_by(|a, b| a.name.cmp(&b.name));
        shelf.not_understood.sort_by(|a, b| a.name.cmp(&b.name));
        Ok(shelf)
    }

    fn add(&mut self, model: &Path, folder: &Path) {
        let Some(name) = name_of(folder) else {
            return self.set_aside(model, folder, "its name is not valid for a variant");
        };
        if !folder.is_dir() {
            return self.set_aside(model, folder, "a file stands where a variant's folder should");
        }
        match Manifest::read(folder) {
            ReadManifest::Understood(manifest) => {
                if manifest.name != name {
                    self.misnamed.push(name.clone());
                }
                self.variants.push(Manifest { name, ..*manifest });
            }
            ReadManifest::Absent => self.set_aside(model, folder, "it has no manifest"),
            ReadManifest::NotUnderstood(why) => self.set_aside(model, folder, &why),
        }
    }

    fn set_aside(&mut self, model: &Path, folder: &Path, why: &str) {
        let part =
            |path: &Path| path.file_name().unwrap_or_default().to_string_lossy().into_owned();
        let name =
            if model == folder { part(model) } else { format!("{}/{}", part(model), part(folder)) };
        let bytes = files_below(folder, DEPTH).map_or(0, |files| files.iter().map(|f| f.1).sum());
        let (folder, why) = (folder.to_owned(), why.to_owned());
        self.not_understood.push(NotUnderstood { folder, name, why, bytes });
    }

    /// Content that folders which are not understood may use.
    pub(super) fn held_elsewhere(&self) -> HeldElsewhere {
        let mut held = HeldElsewhere::default();
        for NotUnderstood { folder, .. } in &self.not_understood {
            match files_below(folder, DEPTH) {
                Some(files) => held.inodes.extend(files.into_iter().map(|(inode, _)| inode)),
                None => held.everything = true,
            }
            match Manifest::text(folder) {
                Ok(text) => held.texts.extend(text),
                Err(_) => held.everything = true,
            }
        }
        held
    }
}

/// Device and inode of a file.
type Inode = (u64, u64);

/// The files below a folder with their lengths; links count as what they lead to. None where it cannot be
/// read, or is too deep.
fn files_below(folder: &Path, depth: u32) -> Option<Vec<(Inode, u64)>> {
    let found = fs::metadata(folder).ok()?;
    if !found.is_dir() {
        return Some(vec![((found.dev(), found.ino()), found.len())]);
    }
    let mut files = Vec::new();
    for entry in fs::read_dir(folder).ok()? {
        let path = entry.ok()?.path();
        match fs::metadata(&path) {
            Ok(found) if found.is_dir() => files.extend(files_below(&path, depth.checked_sub(1)?)?),
            Ok(found) => files.push(((found.dev(), found.ino()), found.len())),
            // A link that leads nowhere holds nothing.
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => {}
            Err(_) => return None,
        }
    }
    Some(files)
}

/// The variant's name of a folder.
fn name_of(folder: &Path) -> Option<VariantName> {
    let variant = folder.file_name()?.to_str()?;
    let model = folder.parent()?.file_name()?.to_str()?;
    format!("{model}/{variant}").parse().ok()
}

/// Content that folders which are not understood may use; it must not be removed.
#[derive(Debug, Default)]
pub(super) struct HeldElsewhere {
    inodes: BTreeSet<Inode>,
    /// Text of manifests that are not understood.
    texts: Vec<String>,
    /// Something could not be looked into.
    everything: bool,
}

impl HeldElsewhere {
    pub(super) fn may_hold(&self, digest: &Digest, object: &Path) -> bool {
        if self.everything {
            return true;
        }
        let text = digest.to_string();
        let inode = fs::metadata(object).map(|found| (found.dev(), found.ino()));
        self.texts.iter().any(|held| held.contains(&text))
            || inode.is_ok_and(|inode| self.inodes.contains(&inode))
    }
}
