//! Writing a variant's files elsewhere. The folder is opened once, and files are made in it through that
//! handle: nothing is overwritten, and no link is followed.

use std::fs::{self, File};
use std::io;
use std::path::{Path, PathBuf};

use rustix::fs::{AtFlags, Mode, OFlags, openat, statat, unlinkat};

use super::digest::{Progress, copy_out};
use super::error::{StoreError, failed};
use super::files::Store;
use super::space::need_space;
use crate::name::VariantName;
use crate::named;

impl Store {
    /// Writes a variant's files into a folder, under their own names; returns where each was written.
    ///
    /// # Errors
    /// It is not here, a file is there already, the folder is a link, the disk is full, or the operating
    /// system refuses; the incomplete copy is removed.
    pub fn export(
        &self,
        name: &VariantName,
        folder: &Path,
        progress: Progress<'_>,
    ) -> Result<Vec<PathBuf>, StoreError> {
        let manifest = self.variant(name).ok_or_else(|| StoreError::NoVariant(name.clone()))?;
        fs::create_dir_all(folder).map_err(failed("make", folder))?;
        let target = named::open_folder(folder)?;
        for file in &manifest.files {
            match statat(&target, &*file.name, AtFlags::SYMLINK_NOFOLLOW) {
                Ok(_) => return Err(StoreError::FileThere(folder.join(&file.name))),
                Err(rustix::io::Errno::NOENT) => {}
                Err(error) => return Err(failed("look at", folder)(error.into())),
            }
        }
        need_space(folder, manifest.bytes())?;
        let mut written: Vec<&str> = Vec::new();
        for file in &manifest.files {
            let path = folder.join(&file.name);
            let copied = make(&target, &file.name).map_err(failed("make", &path)).and_then(|out| {
                written.push(&file.name);
                copy_out(&self.object(&file.sha256), out, &path, progress)
            });
            if let Err(error) = copied {
                for name in written {
                    let _ = unlinkat(&target, name, AtFlags::empty());
                }
                return Err(error);
            }
        }
        Ok(manifest.files.iter().map(|file| folder.join(&file.name)).collect())
    }
}

fn make(folder: &File, name: &str) -> io::Result<File> {
    let flags = OFlags::WRONLY | OFlags::CREATE | OFlags::EXCL | OFlags::NOFOLLOW | OFlags::CLOEXEC;
    Ok(openat(folder, name, flags, Mode::from_raw_mode(0o644))?.into())
}
