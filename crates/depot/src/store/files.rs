//! The depot's folder: opening it, its paths, and questions that change nothing.

use std::collections::{BTreeMap, BTreeSet};
use std::fs::{self, File};
use std::io;
use std::os::unix::fs::{DirBuilderExt, OpenOptionsExt, PermissionsExt};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use parking_lot::Mutex;
use uuid::Uuid;

use super::digest::{self, Digest, Progress};
use super::disk::{Disk, Faults};
use super::error::{StoreError, failed};
use super::identity::{self, identity};
use super::manifest::{Manifest, ReadManifest, StoredFile};
use super::shelf::{NotUnderstood, Shelf};
use super::{space, unfinished};
use crate::keyed_locks::KeyedLocks;
use crate::name::VariantName;

/// Digests with how often each is claimed.
pub(super) type Claims = Arc<Mutex<BTreeMap<Digest, usize>>>;

/// The depot's files below one folder. One process has them at a time.
#[derive(Debug)]
pub struct Store {
    pub(super) root: PathBuf,
    id: Uuid,
    /// Imported content that is not committed yet; it must not be removed.
    pub(super) claims: Claims,
    /// Locks of files that are being pulled: one pull per file.
    pub(crate) fetches: KeyedLocks,
    /// Numbers for unique file names.
    intakes: AtomicU64,
    pub(super) disk: Disk,
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
    /// Opens the depot's folder, makes it if it does not exist, and removes what this version left unfinished in
    /// `incoming`.
    ///
    /// # Errors
    /// Another process has it, another version wrote it, or the operating system refuses.
    pub fn open(root: &Path) -> Result<Self, StoreError> {
        Self::open_on(root, Disk::default())
    }

    /// As [`Store::open`], with changes that fail: for tests and drills.
    ///
    /// # Errors
    /// As [`Store::open`], and the configured faults.
    pub fn open_with_faults(root: &Path, faults: Arc<Faults>) -> Result<Self, StoreError> {
        Self::open_on(root, Disk::with(faults))
    }

    fn open_on(root: &Path, disk: Disk) -> Result<Self, StoreError> {
        // Checked before anything is written, because a later version's depot must stay unchanged.
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

    /// Identity of this depot.
    #[must_use]
    pub fn id(&self) -> Uuid {
        self.id
    }

    pub(super) fn folder(&self, name: &VariantName) -> PathBuf {
        self.root.join("models").join(&name.model).join(&name.variant)
    }

    pub(super) fn object(&self, digest: &Digest) -> PathBuf {
        let text = digest.to_string();
        self.root.join("objects/sha256").join(&text[..2]).join(&text[2..])
    }

    pub(crate) fn incoming(&self) -> PathBuf {
        self.root.join("incoming")
    }

    /// A new path in `incoming`.
    pub(super) fn unfinished(&self, kind: &str) -> PathBuf {
        let number = self.intakes.fetch_add(1, Ordering::Relaxed);
        self.incoming().join(format!("{kind}-{number}"))
    }

    /// A path for a file that will be written and imported.
    #[must_use]
    pub fn new_incoming(&self) -> PathBuf {
        self.unfinished(unfinished::TAKE)
    }

    /// Moves aside a file that differs from what was announced. It is never used, and stays until the next start for
    /// inspection.
    pub(crate) fn put_aside(&self, file: &Path, name: &str) -> PathBuf {
        let target = self.incoming().join(format!("{}-{name}", unfinished::WRONG));
        // If it cannot be moved, it stays where it is not listed either.
        let _ = self.disk.rename(file, &target);
        target
    }

    pub(super) fn shelf(&self) -> Result<Shelf, StoreError> {
        Shelf::read(&self.root)
    }

    /// All variants, by name; for folders that are not understood, see [`Store::not_understood`].
    ///
    /// # Errors
    /// The folders cannot be read.
    pub fn variants(&self) -> Result<Vec<Manifest>, StoreError> {
        Ok(self.shelf()?.variants)
    }

    /// Folders that are not understood, with the reason; they stay as they are.
    ///
    /// # Errors
    /// The folders cannot be read.
    pub fn not_understood(&self) -> Result<Vec<NotUnderstood>, StoreError> {
        Ok(self.shelf()?.not_understood)
    }

    /// The variant of that name, if it is stored and understood.
    #[must_use]
    pub fn variant(&self, name: &VariantName) -> Option<Manifest> {
        match Manifest::read(&self.folder(name)) {
            ReadManifest::Understood(manifest) => {
                Some(Manifest { name: name.clone(), ..*manifest })
            }
            ReadManifest::Absent | ReadManifest::NotUnderstood(_) => None,
        }
    }

    /// Path of a variant's file.
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
    /// The operating system refuses.
    pub fn free(&self) -> Result<u64, StoreError> {
        space::free_space(&self.root)
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
        let found = digest::digest(&mut content, &path, progress)?;
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
