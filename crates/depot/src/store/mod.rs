//! The depot's own files: content under its digest, and every file under its own name beside it.
//!
//! ```text
//! depot.json                                 the depot's identity
//! objects/sha256/ab/cdef…                    content, written once, never changed
//! models/<model>/<variant>/<file name>       a hard link to it (else a symbolic one)
//! models/<model>/<variant>/.deft-variant.json  what belongs to the variant
//! incoming/…                                 what is being written; nothing here is ever listed
//! ```
//!
//! A variant is laid out in `incoming` and appears by one rename of its folder; it goes by a rename of its
//! folder into `incoming`. So whatever breaks off in between leaves files in `incoming`, and those are
//! swept away at the next start. Nothing else is: what stands under `models` and is not understood stays
//! there, and so does all content that it may hold.

mod changes;
mod disk;
mod export;
mod identity;
mod intake;
mod manifest;
mod shelf;
mod sweep;

use std::collections::{BTreeMap, BTreeSet};
use std::fs::{self, File};
use std::io;
use std::ops::ControlFlow;
use std::os::unix::fs::{DirBuilderExt, OpenOptionsExt, PermissionsExt};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use thiserror::Error;
use uuid::Uuid;

use crate::keyed_locks::KeyedLocks;
use crate::name::VariantName;
use crate::named::NamedFileError;
pub use changes::Relinked;
use disk::Disk;
pub use disk::Faults;
pub use identity::identity;
use intake::Claims;
pub use intake::{Digest, MovedSource, Taken, Taking};
pub(crate) use intake::{digest_of, need_space};
use manifest::ReadManifest;
pub use manifest::{FileRole, Manifest, Origin, StoredFile};
pub use shelf::NotUnderstood;
use shelf::Shelf;

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
        "`{}` has {free} free; {need} are needed, {missing} more. Show what can be removed: deft depot usage",
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
    #[error("`{0}` is already in the depot")]
    Taken(VariantName),
    /// There is no such variant here.
    #[error("`{0}` is not stored in the depot")]
    NoVariant(VariantName),
    /// A file of that name is there already.
    #[error("`{}` already exists", .0.display())]
    FileThere(PathBuf),
    /// A file that cannot be opened as it was named.
    #[error(transparent)]
    Named(#[from] NamedFileError),
    /// Something stands there that this version does not understand.
    #[error("`{}` exists and cannot be read ({why}); it was left unchanged", folder.display())]
    NotUnderstood {
        /// Where.
        folder: PathBuf,
        /// Why it is not understood.
        why: String,
    },
    /// The depot was written by another version.
    #[error(
        "the depot `{}` has version {found}; this version of Deft Harbor supports {known}. Nothing was changed. \
         Run the version that wrote it, or use another data directory",
        path.display()
    )]
    OtherForm {
        /// The depot.
        path: PathBuf,
        /// Its form.
        found: u32,
        /// The form that is understood.
        known: u32,
    },
    /// The depot's marker is damaged.
    #[error(
        "`{}` holds the identity of the depot and cannot be used: {why}. Nothing was changed. Restore the file \
         from a backup, or move it away to give the depot a new identity", path.display()
    )]
    MarkerUnusable {
        /// The marker.
        path: PathBuf,
        /// Why.
        why: String,
    },
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
    id: Uuid,
    /// Content that was taken in and is not committed yet: no removal may touch it.
    claims: Claims,
    /// Keys of what is being fetched: each file by one at a time.
    pub(crate) fetches: KeyedLocks,
    /// Gives each intake a file of its own.
    intakes: AtomicU64,
    disk: Disk,
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
    /// Opens the depot's folder, makes it where it is not there, and sweeps away what this version left
    /// unfinished in `incoming`.
    ///
    /// # Errors
    /// Another process has it, another version wrote it, or the operating system refuses.
    pub fn open(root: &Path) -> Result<Self, StoreError> {
        Self::open_on(root, Disk::default())
    }

    /// As [`Store::open`], with changes that fail: for tests and drills.
    ///
    /// # Errors
    /// As [`Store::open`], and the faults that were asked for.
    pub fn open_with_faults(root: &Path, faults: Arc<Faults>) -> Result<Self, StoreError> {
        Self::open_on(root, Disk::with(faults))
    }

    fn open_on(root: &Path, disk: Disk) -> Result<Self, StoreError> {
        // Before anything is made there: a later version's depot is left as it is.
        identity(root)?;
        for folder in ["objects/sha256", "models", "incoming"] {
            let path = root.join(folder);
            let mut make = fs::DirBuilder::new();
            make.recursive(true).mode(0o700).create(&path).map_err(failed("make", &path))?;
        }
        for path in [root.to_owned(), root.join("models"), root.join("incoming")] {
            let private = fs::Permissions::from_mode(0o700);
            fs::set_permissions(&path, private).map_err(failed("change the mode of", &path))?;
        }
        let lock = locked(root)?;
        let store = Self {
            root: root.to_owned(),
            id: identity::settle(root, &disk)?,
            claims: Claims::default(),
            fetches: KeyedLocks::default(),
            intakes: AtomicU64::new(0),
            disk,
            _lock: lock,
        };
        store.sweep()?;
        Ok(store)
    }

    /// What tells this depot from others.
    #[must_use]
    pub fn id(&self) -> Uuid {
        self.id
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

    /// Room in `incoming` for something unfinished.
    fn unfinished(&self, kind: &str) -> PathBuf {
        let number = self.intakes.fetch_add(1, Ordering::Relaxed);
        self.incoming().join(format!("{kind}-{number}"))
    }

    /// A name for a file that is to be written and taken in.
    #[must_use]
    pub fn new_incoming(&self) -> PathBuf {
        self.unfinished(sweep::TAKE)
    }

    /// Puts a file aside that is not what was announced: nobody uses it, somebody may look at it
    /// until the next start.
    pub(crate) fn put_aside(&self, file: &Path, name: &str) -> PathBuf {
        let target = self.incoming().join(format!("{}-{name}", sweep::WRONG));
        // Where it cannot be moved it stays where nobody lists it either.
        let _ = self.disk.rename(file, &target);
        target
    }

    fn shelf(&self) -> Result<Shelf, StoreError> {
        Shelf::read(&self.root)
    }

    /// All variants, by name. Folders that are not understood are told by [`Store::not_understood`].
    ///
    /// # Errors
    /// The folders cannot be read.
    pub fn variants(&self) -> Result<Vec<Manifest>, StoreError> {
        Ok(self.shelf()?.variants)
    }

    /// The variant of that name, where it is kept here and understood.
    #[must_use]
    pub fn variant(&self, name: &VariantName) -> Option<Manifest> {
        match Manifest::read(&self.folder(name)) {
            ReadManifest::Understood(manifest) => {
                Some(Manifest { name: name.clone(), ..*manifest })
            }
            ReadManifest::Absent | ReadManifest::NotUnderstood(_) => None,
        }
    }

    /// Where a variant's file stands under its own name.
    #[must_use]
    pub fn path(&self, name: &VariantName, file: &str) -> PathBuf {
        self.folder(name).join(file)
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
        let shelf = self.shelf()?;
        let elsewhere = shelf.held_elsewhere();
        let manifests = shelf.variants;
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
            let alone = mine.iter().filter(|digest| {
                owners[*digest].len() == 1 && !elsewhere.may_hold(digest, &self.object(digest))
            });
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
}

/// Takes the lock of a depot.
fn locked(root: &Path) -> Result<File, StoreError> {
    let path = root.join("depot.lock");
    let lock = File::options()
        .create(true)
        .truncate(false)
        .write(true)
        .mode(0o600)
        .open(&path)
        .map_err(failed("open", &path))?;
    match lock.try_lock() {
        Ok(()) => Ok(lock),
        Err(fs::TryLockError::WouldBlock) => Err(StoreError::Locked(root.to_owned())),
        Err(fs::TryLockError::Error(error)) => Err(failed("lock", &path)(error)),
    }
}

/// Digest and length of a file.
///
/// # Errors
/// It cannot be read.
pub fn digest_of_file(path: &Path) -> Result<(Digest, u64), StoreError> {
    digest_of(path, &mut |_| ControlFlow::Continue(()))
}

fn entries(folder: &Path) -> Result<Vec<PathBuf>, StoreError> {
    let read = fs::read_dir(folder).map_err(failed("read", folder))?;
    read.map(|entry| entry.map(|entry| entry.path()).map_err(failed("read", folder))).collect()
}

#[cfg(test)]
mod tests;
