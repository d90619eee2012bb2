//! The depot's own files: content under its digest, and every file under its own name beside it.
//!
//! ```text
//! objects/sha256/ab/cdef…                    content, written once, never changed
//! models/<model>/<variant>/<file name>       a hard link to it (else a symbolic one)
//! models/<model>/<variant>/.deft-variant.json  what belongs to the variant: it is there when this is
//! incoming/…                                 what is being written; nothing here is ever listed
//! aside/…                                    what was fetched and is not what was announced
//! ```
//!
//! A variant appears by the rename of its manifest, after everything else of it is on the disk; it goes
//! by the removal of its manifest, before anything else of it. So whatever breaks off in between
//! leaves objects that nobody names, and those are swept away at the next start.

mod intake;
mod manifest;

use std::collections::{BTreeMap, BTreeSet};
use std::fs::{self, File};
use std::io;
use std::ops::ControlFlow;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};

use rustix::fs::{CWD, RenameFlags, renameat_with};
use thiserror::Error;

use crate::name::VariantName;
use crate::remote::partial;
use crate::turns::Turns;
use intake::{Claims, lock};
pub use intake::{Digest, Taken, Taking};
pub(crate) use intake::{digest_of, need_space};
pub use manifest::{FileRole, Manifest, Origin, StoredFile};

/// Told of progress in bytes; breaks to cancel.
pub type Progress<'a> = &'a mut dyn FnMut(u64) -> ControlFlow<()>;

/// Why something cannot be done with the depot's files.
#[derive(Debug, Error)]
pub enum StoreError {
    /// Another process has the depot.
    #[error("the depot `{}` is used by another service", .0.display())]
    Locked(PathBuf),
    /// The operating system refused.
    #[error("cannot {what} `{}`: {source}", path.display())]
    Io {
        /// What was to be done.
        what: &'static str,
        /// With what.
        path: PathBuf,
        /// What the operating system says.
        source: io::Error,
    },
    /// There is too little room on the disk.
    #[error(
        "`{}` has {free} free, and {need} are needed: {missing} more; what can be freed: \
         deft depot usage",
        path.display()
    )]
    NoSpace {
        /// Where.
        path: PathBuf,
        /// Free bytes there.
        free: deft_planning::Bytes,
        /// Bytes that are needed.
        need: deft_planning::Bytes,
        /// The difference.
        missing: deft_planning::Bytes,
    },
    /// It was told to stop.
    #[error("it was cancelled")]
    Cancelled,
    /// The name is taken.
    #[error("`{0}` is in the depot already")]
    Taken(VariantName),
    /// There is no such variant here.
    #[error("`{0}` is not kept in the depot")]
    NoVariant(VariantName),
    /// A file of that name is there already.
    #[error("`{}` is there already", .0.display())]
    FileThere(PathBuf),
}

pub(crate) fn failed<'a>(
    what: &'static str,
    path: &'a Path,
) -> impl FnOnce(io::Error) -> StoreError + 'a {
    move |source| StoreError::Io { what, path: path.to_owned(), source }
}

/// The depot's files below one folder. One process has them at a time.
#[derive(Debug)]
pub struct Store {
    root: PathBuf,
    /// Content that was taken in and is not committed yet: no removal may touch it.
    claims: Claims,
    /// Keys of what is being fetched: each file by one at a time.
    pub(crate) fetches: Turns,
    /// Gives each intake a file of its own.
    intakes: AtomicU64,
    /// Held as long as the store is open.
    _lock: File,
}

/// How much of the disk the depot takes.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Usage {
    /// For each variant: its bytes, and how many of them its removal would free.
    pub variants: BTreeMap<VariantName, (u64, u64)>,
    /// All objects, each counted once.
    pub total: u64,
    /// Free bytes of the file system.
    pub free: u64,
}

/// What became of a file's content.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Health {
    /// It is what it was.
    Well,
    /// It is not there.
    Missing,
    /// It has another digest.
    Changed {
        /// The digest it has.
        found: Digest,
    },
}

impl Store {
    /// Opens the depot's folder, makes it where it is not there, and sweeps away what was left
    /// unfinished.
    ///
    /// # Errors
    /// Another process has it, or the operating system refuses.
    pub fn open(root: &Path) -> Result<Self, StoreError> {
        for folder in ["objects/sha256", "models", "incoming", "aside"] {
            let path = root.join(folder);
            fs::create_dir_all(&path).map_err(failed("make", &path))?;
        }
        let path = root.join("depot.lock");
        let lock = File::options()
            .create(true)
            .truncate(false)
            .write(true)
            .open(&path)
            .map_err(failed("open", &path))?;
        match lock.try_lock() {
            Ok(()) => {}
            Err(fs::TryLockError::WouldBlock) => return Err(StoreError::Locked(root.to_owned())),
            Err(fs::TryLockError::Error(error)) => return Err(failed("lock", &path)(error)),
        }
        let store = Self {
            root: root.to_owned(),
            claims: Claims::default(),
            fetches: Turns::default(),
            intakes: AtomicU64::new(0),
            _lock: lock,
        };
        store.sweep()?;
        Ok(store)
    }

    fn folder(&self, name: &VariantName) -> PathBuf {
        self.root.join("models").join(&name.model).join(&name.variant)
    }

    fn object(&self, digest: &Digest) -> PathBuf {
        let text = digest.to_string();
        self.root.join("objects/sha256").join(&text[..2]).join(&text[2..])
    }

    pub(crate) fn incoming(&self) -> PathBuf {
        self.root.join("incoming")
    }

    /// A name for a file that is to be written and taken in.
    #[must_use]
    pub fn new_incoming(&self) -> PathBuf {
        let number = self.intakes.fetch_add(1, Ordering::Relaxed);
        self.incoming().join(format!("take-{number}"))
    }

    fn aside(&self) -> PathBuf {
        self.root.join("aside")
    }

    /// Puts a file aside that is not what was announced: nobody uses it, somebody may look at it
    /// until the next start.
    pub(crate) fn put_aside(&self, file: &Path, name: &str) -> PathBuf {
        let target = self.aside().join(name);
        // Where it cannot be moved it stays where nobody lists it either.
        let _ = fs::rename(file, &target);
        target
    }

    /// All variants, by name. A manifest that cannot be read is passed over: it is not ours.
    ///
    /// # Errors
    /// The folders cannot be read.
    pub fn variants(&self) -> Result<Vec<Manifest>, StoreError> {
        let mut found = Vec::new();
        for model in folders(&self.root.join("models"))? {
            for variant in folders(&model)? {
                found.extend(Manifest::read(&variant));
            }
        }
        found.sort_by(|a, b| a.name.cmp(&b.name));
        Ok(found)
    }

    /// The variant of that name, where it is kept here.
    #[must_use]
    pub fn variant(&self, name: &VariantName) -> Option<Manifest> {
        Manifest::read(&self.folder(name))
    }

    /// Where a variant's file stands under its own name.
    #[must_use]
    pub fn path(&self, name: &VariantName, file: &str) -> PathBuf {
        self.folder(name).join(file)
    }

    /// Makes a variant of files that were taken in: links them under their names, then writes the
    /// manifest.
    ///
    /// # Errors
    /// The name is taken, or the operating system refuses; nothing is listed then.
    pub fn commit(&self, manifest: &Manifest) -> Result<(), StoreError> {
        let folder = self.folder(&manifest.name);
        if Manifest::read(&folder).is_some() {
            return Err(StoreError::Taken(manifest.name.clone()));
        }
        // What an attempt before left unfinished.
        let _ = fs::remove_dir_all(&folder);
        self.lay_out(manifest, &folder)?;
        // The folder's own entry, and that of the model's folder, are to be on the disk too.
        let models = self.root.join("models");
        let way_up = folder.ancestors().take_while(|path| path.starts_with(&models));
        way_up.into_iter().try_for_each(sync)?;
        Ok(())
    }

    /// Puts another state of a variant in its place: at every moment there is the one or the other.
    /// Content that only the old one had is removed.
    ///
    /// # Errors
    /// It is not here, or the operating system refuses; the old state stays then.
    pub fn replace(&self, manifest: &Manifest) -> Result<(), StoreError> {
        let claims = lock(&self.claims);
        let name = &manifest.name;
        let old = self.variant(name).ok_or_else(|| StoreError::NoVariant(name.clone()))?;
        let number = self.intakes.fetch_add(1, Ordering::Relaxed);
        let (new, folder) = (self.incoming().join(format!("state-{number}")), self.folder(name));
        let _ = fs::remove_dir_all(&new);
        let exchanged = self.lay_out(manifest, &new).and_then(|()| {
            renameat_with(CWD, &new, CWD, &folder, RenameFlags::EXCHANGE)
                .map_err(|error| failed("replace", &folder)(error.into()))
        });
        let _ = fs::remove_dir_all(&new);
        exchanged?;
        folder.parent().map_or(Ok(()), sync)?;
        self.remove_unnamed(old.files.iter().map(|file| file.sha256).collect(), &claims)
    }

    /// Links a variant's files into a folder, and writes the manifest last.
    fn lay_out(&self, manifest: &Manifest, folder: &Path) -> Result<(), StoreError> {
        fs::create_dir_all(folder).map_err(failed("make", folder))?;
        for file in &manifest.files {
            let object = self.object(&file.sha256);
            link(&object, &folder.join(&file.name))?;
            // Content has its digest for a name: nobody is to write it.
            let _ = fs::set_permissions(&object, fs::Permissions::from_mode(0o444));
        }
        sync(folder)?;
        manifest.write(folder)
    }

    /// Takes content that is not what its digest says out of the way, for good content to come.
    ///
    /// # Errors
    /// The operating system refuses.
    pub fn give_up(&self, sha256: &Digest) -> Result<(), StoreError> {
        let object = self.object(sha256);
        match fs::rename(&object, self.given_up(sha256)) {
            Err(error) if error.kind() != io::ErrorKind::NotFound => {
                Err(failed("move", &object)(error))
            }
            _ => Ok(()),
        }
    }

    /// Puts content back that was given up, where no good content came.
    ///
    /// # Errors
    /// The operating system refuses.
    pub fn take_back(&self, sha256: &Digest) -> Result<(), StoreError> {
        let object = self.object(sha256);
        match fs::rename(self.given_up(sha256), &object) {
            Err(error) if error.kind() != io::ErrorKind::NotFound => {
                Err(failed("move", &object)(error))
            }
            _ => Ok(()),
        }
    }

    fn given_up(&self, sha256: &Digest) -> PathBuf {
        self.aside().join(format!("{sha256}-spoilt"))
    }

    /// Links the files with this content anew, after good content has come. Returns the variants that
    /// have it, each with its first file.
    ///
    /// # Errors
    /// The operating system refuses.
    pub fn heal(&self, sha256: &Digest) -> Result<Vec<(VariantName, String)>, StoreError> {
        let mut healed = Vec::new();
        for manifest in self.variants()? {
            for file in manifest.files.iter().filter(|file| file.sha256 == *sha256) {
                let path = self.path(&manifest.name, &file.name);
                let unfinished = path.with_extension("unfinished");
                let _ = fs::remove_file(&unfinished);
                link(&self.object(sha256), &unfinished)?;
                fs::rename(&unfinished, &path).map_err(failed("write", &path))?;
                healed.push((manifest.name.clone(), manifest.files[0].name.clone()));
            }
        }
        Ok(healed)
    }

    /// Gives a variant another name.
    ///
    /// # Errors
    /// It is not here, the new name is taken, or the operating system refuses.
    pub fn rename(&self, from: &VariantName, to: &VariantName) -> Result<(), StoreError> {
        let _changing = lock(&self.claims);
        let manifest = self.variant(from).ok_or_else(|| StoreError::NoVariant(from.clone()))?;
        self.commit(&Manifest { name: to.clone(), ..manifest })?;
        self.unlist(from)
    }

    /// Removes a variant, and what only it had. Returns how many bytes that freed.
    ///
    /// # Errors
    /// It is not here, or the operating system refuses.
    pub fn remove(&self, name: &VariantName) -> Result<u64, StoreError> {
        let claims = lock(&self.claims);
        let manifest = self.variant(name).ok_or_else(|| StoreError::NoVariant(name.clone()))?;
        let frees = self.would_free(name)?;
        self.unlist(name)?;
        let digests = manifest.files.iter().map(|file| file.sha256).collect();
        self.remove_unnamed(digests, &claims)?;
        Ok(frees)
    }

    /// Gives back what was taken in and will not be committed.
    ///
    /// # Errors
    /// The operating system refuses; the next start sweeps it away then.
    pub fn give_back(&self, taken: Vec<Taken>) -> Result<(), StoreError> {
        let digests = taken.iter().map(|taken| taken.sha256).collect();
        drop(taken);
        let claims = lock(&self.claims);
        self.remove_unnamed(digests, &claims)
    }

    /// Removes those objects that no variant names and nobody has a claim on.
    fn remove_unnamed(
        &self,
        mut digests: BTreeSet<Digest>,
        claims: &BTreeMap<Digest, usize>,
    ) -> Result<(), StoreError> {
        let named = self.variants()?.into_iter().flat_map(|manifest| manifest.files);
        for file in named {
            digests.remove(&file.sha256);
        }
        for digest in digests.iter().filter(|digest| !claims.contains_key(digest)) {
            let object = self.object(digest);
            match fs::remove_file(&object) {
                Err(error) if error.kind() != io::ErrorKind::NotFound => {
                    return Err(failed("remove", &object)(error));
                }
                _ => {}
            }
        }
        Ok(())
    }

    /// How many bytes the removal of a variant would free.
    ///
    /// # Errors
    /// It is not here, or the folders cannot be read.
    pub fn would_free(&self, name: &VariantName) -> Result<u64, StoreError> {
        let usage = self.usage()?;
        let found = usage.variants.get(name).map(|(_, frees)| *frees);
        found.ok_or_else(|| StoreError::NoVariant(name.clone()))
    }

    fn unlist(&self, name: &VariantName) -> Result<(), StoreError> {
        let folder = self.folder(name);
        Manifest::remove(&folder)?;
        fs::remove_dir_all(&folder).map_err(failed("remove", &folder))?;
        if let Some(model) = folder.parent() {
            // Other variants may be there.
            let _ = fs::remove_dir(model);
        }
        Ok(())
    }

    /// Free bytes of the file system that it is on.
    ///
    /// # Errors
    /// The operating system does not tell.
    pub fn free(&self) -> Result<u64, StoreError> {
        intake::free_space(&self.root)
    }

    /// What takes how much of the disk.
    ///
    /// # Errors
    /// The folders cannot be read.
    pub fn usage(&self) -> Result<Usage, StoreError> {
        let manifests = self.variants()?;
        let mut owners: BTreeMap<&Digest, BTreeSet<&VariantName>> = BTreeMap::new();
        let mut sizes: BTreeMap<&Digest, u64> = BTreeMap::new();
        for manifest in &manifests {
            for file in &manifest.files {
                owners.entry(&file.sha256).or_default().insert(&manifest.name);
                sizes.insert(&file.sha256, file.bytes);
            }
        }
        let of_variant = |manifest: &Manifest| {
            let mine: BTreeSet<&Digest> = manifest.files.iter().map(|file| &file.sha256).collect();
            let bytes = mine.iter().map(|digest| sizes[digest]).sum();
            let alone = mine.iter().filter(|digest| owners[*digest].len() == 1);
            (manifest.name.clone(), (bytes, alone.map(|digest| sizes[digest]).sum()))
        };
        Ok(Usage {
            variants: manifests.iter().map(of_variant).collect(),
            total: sizes.values().sum(),
            free: self.free()?,
        })
    }

    /// Reads a file's content again and compares its digest.
    ///
    /// # Errors
    /// It was cancelled, or it cannot be read.
    pub fn verify(&self, file: &StoredFile, progress: Progress<'_>) -> Result<Health, StoreError> {
        let path = self.object(&file.sha256);
        let mut content = match File::open(&path) {
            Ok(content) => content,
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Health::Missing),
            Err(error) => return Err(failed("open", &path)(error)),
        };
        let found = intake::digest(&mut content, &path, progress)?;
        Ok(if found == file.sha256 { Health::Well } else { Health::Changed { found } })
    }

    /// Writes a variant's files into a folder, under their own names.
    ///
    /// # Errors
    /// It is not here, a file is there already, the disk is full, or the operating system refuses; what
    /// was begun is removed again.
    pub fn export(
        &self,
        name: &VariantName,
        folder: &Path,
        progress: Progress<'_>,
    ) -> Result<Vec<PathBuf>, StoreError> {
        let manifest = self.variant(name).ok_or_else(|| StoreError::NoVariant(name.clone()))?;
        fs::create_dir_all(folder).map_err(failed("make", folder))?;
        let targets: Vec<PathBuf> =
            manifest.files.iter().map(|file| folder.join(&file.name)).collect();
        if let Some(there) = targets.iter().find(|path| path.exists()) {
            return Err(StoreError::FileThere(there.clone()));
        }
        intake::need_space(folder, manifest.bytes())?;
        for (at, (file, target)) in manifest.files.iter().zip(&targets).enumerate() {
            let copied = intake::copy_out(&self.object(&file.sha256), target, progress);
            if let Err(error) = copied {
                targets[..=at].iter().for_each(|path| drop(fs::remove_file(path)));
                return Err(error);
            }
        }
        Ok(targets)
    }

    /// Removes what nobody names: unfinished writes, objects without a variant, folders without a
    /// manifest.
    fn sweep(&self) -> Result<(), StoreError> {
        for path in entries(&self.incoming())? {
            // What was fetched in part is gone on with, if somebody asks for it soon.
            if !partial::is_recent(&path) {
                remove(&path)?;
            }
        }
        entries(&self.aside())?.iter().try_for_each(|path| remove(path))?;
        for model in folders(&self.root.join("models"))? {
            for variant in folders(&model)? {
                if Manifest::read(&variant).is_none() {
                    fs::remove_dir_all(&variant).map_err(failed("remove", &variant))?;
                }
            }
            let _ = fs::remove_dir(&model);
        }
        let manifests = self.variants()?;
        let named: BTreeSet<PathBuf> = manifests
            .iter()
            .flat_map(|manifest| &manifest.files)
            .map(|file| self.object(&file.sha256))
            .collect();
        for bucket in folders(&self.root.join("objects/sha256"))? {
            for object in entries(&bucket)? {
                if !named.contains(&object) {
                    fs::remove_file(&object).map_err(failed("remove", &object))?;
                }
            }
        }
        Ok(())
    }
}

/// Digest and length of a file.
///
/// # Errors
/// It cannot be read.
pub fn digest_of_file(path: &Path) -> Result<(Digest, u64), StoreError> {
    digest_of(path, &mut |_| ControlFlow::Continue(()))
}

/// Links a file under a name: hard where the file system can, else by a symbolic link.
fn link(object: &Path, path: &Path) -> Result<(), StoreError> {
    if fs::hard_link(object, path).is_ok() {
        return Ok(());
    }
    let whole = fs::canonicalize(object).map_err(failed("find", object))?;
    std::os::unix::fs::symlink(whole, path).map_err(failed("link", path))
}

/// Removes a file, or a folder with all that is in it.
fn remove(path: &Path) -> Result<(), StoreError> {
    let removed = if path.is_dir() { fs::remove_dir_all(path) } else { fs::remove_file(path) };
    removed.map_err(failed("remove", path))
}

/// Makes sure that a folder's entries are on the disk.
fn sync(folder: &Path) -> Result<(), StoreError> {
    File::open(folder).and_then(|open| open.sync_all()).map_err(failed("write", folder))
}

fn entries(folder: &Path) -> Result<Vec<PathBuf>, StoreError> {
    let read = fs::read_dir(folder).map_err(failed("read", folder))?;
    read.map(|entry| entry.map(|entry| entry.path()).map_err(failed("read", folder))).collect()
}

fn folders(folder: &Path) -> Result<Vec<PathBuf>, StoreError> {
    Ok(entries(folder)?.into_iter().filter(|path| path.is_dir()).collect())
}

#[cfg(test)]
mod tests;
