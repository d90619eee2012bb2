//! Cleaning up after an interruption, at a start. Only files that this version wrote into its own `incoming` are removed;
//! everything else stays, because it may belong to another program.

use std::collections::BTreeSet;
use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use super::digest::Digest;
use super::disk::entries;
use super::error::{StoreError, failed};
use super::files::Store;
use super::manifest::Manifest;
use super::unfinished::{NOTE, Unfinished, is_recent};

impl Store {
    /// Completes or removes what this version left unfinished.
    pub(super) fn sweep(&self) -> Result<(), StoreError> {
        let shelf = self.shelf()?;
        for model in &shelf.not_understood {
            tracing::warn!("`{}` was left unchanged: {}", model.folder.display(), model.why);
        }
        for name in &shelf.misnamed {
            let renamed = shelf.variants.iter().find(|manifest| manifest.name == *name);
            let written = renamed.map(|manifest| manifest.write(&self.disk, &self.folder(name)));
            written.transpose()?;
        }
        let mut unnamed = BTreeSet::new();
        for path in entries(&self.incoming())? {
            match Unfinished::of(&path) {
                Unfinished::Rest => self.remove_rest(&path)?,
                // A recent partial file stays, so that a retry continues it.
                Unfinished::Partial if is_recent(&path) => {}
                Unfinished::Partial => self.remove_rest(&path)?,
                Unfinished::Spoilt(digest) => self.settle_spoilt(&digest, &shelf.variants)?,
                Unfinished::Note(digest) => drop(unnamed.insert(digest)),
                Unfinished::Unknown => {
                    tracing::warn!(
                        "`{}` was left unchanged: it is not in the records",
                        path.display()
                    );
                }
            }
        }
        self.remove_unnamed(unnamed, &std::collections::BTreeMap::new())?;
        self.remove_empty_models()
    }

    /// Removes the folders of models that no variant is left of.
    fn remove_empty_models(&self) -> Result<(), StoreError> {
        for model in entries(&self.root.join("models"))? {
            let is_folder = fs::symlink_metadata(&model).is_ok_and(|found| found.is_dir());
            if is_folder && entries(&model)?.is_empty() {
                // It does no harm where it stays.
                let _ = self.disk.remove_empty(&model);
            }
        }
        Ok(())
    }

    fn remove_rest(&self, path: &Path) -> Result<(), StoreError> {
        self.disk.remove(path).map_err(failed("remove", path))
    }

    /// Good content did not come before the end: what there is goes back, for it is better than nothing.
    fn settle_spoilt(&self, digest: &Digest, variants: &[Manifest]) -> Result<(), StoreError> {
        let is_named = variants.iter().flat_map(|found| &found.files).any(|f| f.sha256 == *digest);
        if is_named && !self.object(digest).exists() {
            return self.take_back(digest);
        }
        self.remove_rest(&self.spoilt(digest))
    }

    fn note(&self, digest: &Digest) -> PathBuf {
        self.incoming().join(format!("{NOTE}-{digest}"))
    }

    /// Notes that an object may be named by no variant soon: a start that finds the note looks.
    pub(super) fn note_one(&self, digest: &Digest) -> Result<(), StoreError> {
        let note = self.note(digest);
        match self.disk.create(&note) {
            Err(error) if error.kind() != io::ErrorKind::AlreadyExists => {
                Err(failed("write", &note)(error))
            }
            _ => Ok(()),
        }
    }

    pub(super) fn note_all(&self, digests: &BTreeSet<Digest>) -> Result<(), StoreError> {
        digests.iter().try_for_each(|digest| self.note_one(digest))
    }

    /// An object is named again, or gone. Where the note stays, the next start looks once more.
    pub(super) fn forget_note(&self, digest: &Digest) {
        if fs::symlink_metadata(self.note(digest)).is_ok() {
            let _ = self.disk.remove_file(&self.note(digest));
        }
    }
}
