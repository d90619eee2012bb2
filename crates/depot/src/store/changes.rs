//! Changes of what the depot has: variants appear, change and go, each by one rename.

use std::collections::{BTreeMap, BTreeSet};
use std::fs::{self, File};
use std::io;
use std::ops::ControlFlow;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use rustix::fs::{CWD, RenameFlags, renameat_with};

use super::digest::{Digest, Progress, digest_of};
use super::error::{StoreError, failed};
use super::files::Store;
use super::intake::Taken;
use super::manifest::{Manifest, ReadManifest, StoredFile};
use super::unfinished;
use crate::name::VariantName;

/// How a file of a variant refers to its content in the depot.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Relinked {
    /// The same file.
    Same,
    /// A file with other content, which was left unchanged.
    Other,
}

impl Store {
    /// Makes a variant of imported content: its folder is made in `incoming` and then renamed.
    ///
    /// # Errors
    /// The name is taken, or the operating system refuses; nothing is listed then.
    pub fn commit(&self, manifest: &Manifest) -> Result<(), StoreError> {
        self.refuse_where_taken(&manifest.name)?;
        let new = self.unfinished(unfinished::STATE);
        let placed = self.lay_out(manifest, &new).and_then(|()| self.put_in_place(&new, manifest));
        if placed.is_err() {
            // What cannot be removed now the next start sweeps away.
            let _ = self.disk.remove(&new);
            return placed;
        }
        for file in &manifest.files {
            self.forget_note(&file.sha256);
        }
        Ok(())
    }

    /// A name is free if there is no folder, or an empty one.
    fn refuse_where_taken(&self, name: &VariantName) -> Result<(), StoreError> {
        let folder = self.folder(name);
        match Manifest::read(&folder) {
            ReadManifest::Understood(_) => Err(StoreError::Taken(name.clone())),
            ReadManifest::NotUnderstood(why) => Err(StoreError::NotUnderstood { folder, why }),
            ReadManifest::Absent => match fs::read_dir(&folder).map(|mut all| all.next().is_none())
            {
                Ok(true) => Ok(()),
                Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(()),
                Ok(false) => {
                    let why = "it has no manifest".to_owned();
                    Err(StoreError::NotUnderstood { folder, why })
                }
                Err(error) => Err(failed("read", &folder)(error)),
            },
        }
    }

    /// Moves a prepared folder to its listed place. A folder that is not empty is never replaced.
    fn put_in_place(&self, new: &Path, manifest: &Manifest) -> Result<(), StoreError> {
        let folder = self.folder(&manifest.name);
        let model = folder.parent().unwrap_or(&self.root);
        self.disk.make_folder(model).map_err(failed("make", model))?;
        self.disk.rename(new, &folder).map_err(|error| match error.kind() {
            io::ErrorKind::DirectoryNotEmpty => StoreError::Taken(manifest.name.clone()),
            _ => failed("move", new)(error),
        })?;
        let synced = self.sync(model).and_then(|()| self.sync(&self.root.join("models")));
        if synced.is_err() {
            // It might be gone after a crash, so it is not there now either.
            let _ = self.disk.rename(&folder, new);
        }
        synced
    }

    fn sync(&self, folder: &Path) -> Result<(), StoreError> {
        self.disk.sync(folder).map_err(failed("write", folder))
    }

    /// Puts another state of a variant in its place: at every moment there is the one or the other.
    /// Content that only the old one had is removed.
    ///
    /// # Errors
    /// It is not here, or the operating system refuses; the old state stays then.
    pub fn replace(&self, manifest: &Manifest) -> Result<(), StoreError> {
        let claims = self.claims.lock();
        let name = &manifest.name;
        let old = self.variant(name).ok_or_else(|| StoreError::NoVariant(name.clone()))?;
        let digests: BTreeSet<Digest> = old.files.iter().map(|file| file.sha256).collect();
        self.note_all(&digests)?;
        let (new, folder) = (self.unfinished(unfinished::STATE), self.folder(name));
        let manifest = Manifest { id: old.id.or(manifest.id), ..manifest.clone() };
        let exchanged = self.lay_out(&manifest, &new).and_then(|()| {
            let exchange = self.disk.change().and_then(|()| {
                renameat_with(CWD, &new, CWD, &folder, RenameFlags::EXCHANGE).map_err(Into::into)
            });
            exchange.map_err(failed("replace", &folder))
        });
        // The old state, or the new one that did not come; the next start sweeps away what stays.
        let _ = self.disk.remove(&new);
        exchanged?;
        // It is the new one in any case: what fails from here on the next start completes.
        let _ = folder.parent().map_or(Ok(()), |model| self.sync(model));
        manifest.files.iter().for_each(|file| self.forget_note(&file.sha256));
        let _ = self.remove_unnamed(digests, &claims);
        Ok(())
    }

    /// Links a variant's files into a folder of `incoming`, and writes the manifest last.
    fn lay_out(&self, manifest: &Manifest, folder: &Path) -> Result<(), StoreError> {
        match self.disk.remove(folder) {
            Err(error) if error.kind() != io::ErrorKind::NotFound => {
                return Err(failed("remove", folder)(error));
            }
            _ => {}
        }
        self.disk.make_folder(folder).map_err(failed("make", folder))?;
        for file in &manifest.files {
            let object = self.object(&file.sha256);
            self.link(&object, &folder.join(&file.name))?;
            let content = File::open(&object).map_err(failed("open", &object))?;
            self.disk.settle_mode(&content).map_err(failed("change the mode of", &object))?;
        }
        self.sync(folder)?;
        manifest.write(&self.disk, folder)?;
        self.sync(folder)
    }

    /// Links content under a name: hard where the file system can, else by a symbolic link.
    pub(super) fn link(&self, object: &Path, path: &Path) -> Result<(), StoreError> {
        if self.disk.link(object, path).is_ok() {
            return Ok(());
        }
        let whole = fs::canonicalize(object).map_err(failed("find", object))?;
        self.disk.symlink(&whole, path).map_err(failed("link", path))
    }

    /// Takes content that is not what its digest says out of the way, for good content to come.
    ///
    /// # Errors
    /// The operating system refuses.
    pub fn give_up(&self, sha256: &Digest) -> Result<(), StoreError> {
        let object = self.object(sha256);
        match self.disk.rename(&object, &self.spoilt(sha256)) {
            Err(error) if error.kind() != io::ErrorKind::NotFound => {
                Err(failed("move", &object)(error))
            }
            _ => Ok(()),
        }
    }

    /// Restores damaged content if no good content was pulled.
    ///
    /// # Errors
    /// The operating system refuses.
    pub fn take_back(&self, sha256: &Digest) -> Result<(), StoreError> {
        let object = self.object(sha256);
        match self.disk.rename(&self.spoilt(sha256), &object) {
            Err(error) if error.kind() != io::ErrorKind::NotFound => {
                Err(failed("move", &object)(error))
            }
            _ => Ok(()),
        }
    }

    pub(super) fn spoilt(&self, sha256: &Digest) -> PathBuf {
        self.incoming().join(format!("{}-{sha256}", unfinished::SPOILT))
    }

    /// Makes a file of a variant and its content, which is good, one file again. They are two where a restored copy
    /// lost its links. A file with other content may belong to somebody, so it is left unchanged.
    ///
    /// # Errors
    /// It was cancelled, the file cannot be read, or the operating system refuses.
    pub fn relink(
        &self,
        name: &VariantName,
        file: &StoredFile,
        progress: Progress<'_>,
    ) -> Result<Relinked, StoreError> {
        if self.is_other(&self.path(name, &file.name), &file.sha256, progress)? {
            return Ok(Relinked::Other);
        }
        self.link_anew(name, file)?;
        Ok(Relinked::Same)
    }

    /// Whether there is something at the path of a variant's file that is neither this content nor its damaged form. A
    /// missing file and a link that leads nowhere are nothing.
    fn is_other(
        &self,
        path: &Path,
        sha256: &Digest,
        progress: Progress<'_>,
    ) -> Result<bool, StoreError> {
        let Ok(found) = path.metadata() else { return Ok(false) };
        // Opening a pipe would wait for its writer.
        if !found.is_file() {
            return Ok(true);
        }
        if is_same_file(path, &self.object(sha256)) || is_same_file(path, &self.spoilt(sha256)) {
            return Ok(false);
        }
        Ok(digest_of(path, progress)?.0 != *sha256)
    }

    /// Makes a variant's file a link to its content, unless it is one already. A variant that was renamed or removed
    /// meanwhile is left as it is.
    fn link_anew(&self, name: &VariantName, file: &StoredFile) -> Result<(), StoreError> {
        let _changing = self.claims.lock();
        let (path, object) = (self.path(name, &file.name), self.object(&file.sha256));
        if is_same_file(&path, &object) || self.variant(name).is_none() {
            return Ok(());
        }
        let unfinished = self.new_incoming();
        self.link(&object, &unfinished)?;
        let placed = self.disk.rename(&unfinished, &path).map_err(failed("write", &path));
        if placed.is_err() {
            let _ = self.disk.remove(&unfinished);
        }
        placed
    }

    /// Links the files with this content again, after good content has been pulled. A file with other content is left
    /// unchanged. Returns the variants whose files are linked.
    ///
    /// # Errors
    /// The operating system refuses.
    pub fn heal(&self, sha256: &Digest) -> Result<Vec<VariantName>, StoreError> {
        let mut healed = Vec::new();
        for manifest in self.variants()? {
            for file in manifest.files.iter().filter(|file| file.sha256 == *sha256) {
                let path = self.path(&manifest.name, &file.name);
                if self.is_other(&path, sha256, &mut |_| ControlFlow::Continue(()))? {
                    tracing::warn!("`{}` has other content and was left unchanged", path.display());
                    continue;
                }
                self.link_anew(&manifest.name, file)?;
                healed.push(manifest.name.clone());
            }
        }
        // The damaged content is removed: every name refers to good content now.
        let _ = self.disk.remove(&self.spoilt(sha256));
        Ok(healed)
    }

    /// Gives a variant another name: one rename of its folder, whose name counts.
    ///
    /// # Errors
    /// It is not here, the new name is taken, or the operating system refuses; it has its old name then.
    pub fn rename(&self, from: &VariantName, to: &VariantName) -> Result<(), StoreError> {
        let _changing = self.claims.lock();
        let manifest = self.variant(from).ok_or_else(|| StoreError::NoVariant(from.clone()))?;
        self.refuse_where_taken(to)?;
        let (old, new) = (self.folder(from), self.folder(to));
        let model = new.parent().unwrap_or(&self.root);
        self.disk.make_folder(model).map_err(failed("make", model))?;
        self.disk.rename(&old, &new).map_err(|error| match error.kind() {
            io::ErrorKind::DirectoryNotEmpty => StoreError::Taken(to.clone()),
            _ => failed("move", &old)(error),
        })?;
        // It has its new name in any case; the next start completes what fails from here on.
        let _ = Manifest { name: to.clone(), ..manifest }.write(&self.disk, &new);
        let _ = self.sync(model);
        self.leave_model(&old);
        Ok(())
    }

    /// Removes a variant, and what only it had. Returns how many bytes that freed.
    ///
    /// # Errors
    /// It is not here, or the operating system refuses; it is still there then.
    pub fn remove(&self, name: &VariantName) -> Result<u64, StoreError> {
        let claims = self.claims.lock();
        let manifest = self.variant(name).ok_or_else(|| StoreError::NoVariant(name.clone()))?;
        let frees = self.would_free(name)?;
        let digests: BTreeSet<Digest> = manifest.files.iter().map(|file| file.sha256).collect();
        self.note_all(&digests)?;
        let (folder, gone) = (self.folder(name), self.unfinished(unfinished::GONE));
        self.disk.rename(&folder, &gone).map_err(failed("remove", &folder))?;
        // It is gone in any case; the next start completes what fails from here on.
        self.leave_model(&folder);
        let _ = self.disk.remove(&gone);
        let _ = self.remove_unnamed(digests, &claims);
        Ok(frees)
    }

    /// A variant's folder has left its model's folder, which goes too where it is empty now.
    fn leave_model(&self, folder: &Path) {
        if let Some(model) = folder.parent() {
            let _ = self.sync(model);
            // Other variants may be there.
            let _ = self.disk.remove_empty(model);
        }
    }

    /// Releases content that will not be committed.
    ///
    /// # Errors
    /// The operating system refuses; the next start sweeps it away then.
    pub fn give_back(&self, taken: Vec<Taken>) -> Result<(), StoreError> {
        let digests = taken.iter().map(|taken| taken.sha256).collect();
        drop(taken);
        let claims = self.claims.lock();
        self.remove_unnamed(digests, &claims)
    }

    /// Removes those objects that no variant names, nobody has a claim on, and nothing that is not
    /// understood may hold.
    pub(super) fn remove_unnamed(
        &self,
        mut digests: BTreeSet<Digest>,
        claims: &BTreeMap<Digest, usize>,
    ) -> Result<(), StoreError> {
        let shelf = self.shelf()?;
        let elsewhere = shelf.held_elsewhere();
        for file in shelf.variants.iter().flat_map(|manifest| &manifest.files) {
            if digests.remove(&file.sha256) {
                self.forget_note(&file.sha256);
            }
        }
        for digest in digests.iter().filter(|digest| !claims.contains_key(digest)) {
            let object = self.object(digest);
            if elsewhere.may_hold(digest, &object) {
                continue;
            }
            match self.disk.remove_file(&object) {
                Err(error) if error.kind() != io::ErrorKind::NotFound => {
                    return Err(failed("remove", &object)(error));
                }
                _ => self.forget_note(digest),
            }
        }
        Ok(())
    }
}

/// Whether two paths lead to the same file. It opens neither.
fn is_same_file(one: &Path, other: &Path) -> bool {
    let place = |path: &Path| path.metadata().ok().map(|found| (found.dev(), found.ino()));
    place(one).is_some_and(|found| Some(found) == place(other))
}
