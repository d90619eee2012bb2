//! Files and folders of the service: for its user only, whatever the umask, and there whole or not at all.

use std::fs::{self, DirBuilder, File};
use std::io::{self, Write};
use std::os::unix::fs::{DirBuilderExt, MetadataExt, OpenOptionsExt, PermissionsExt};
use std::path::Path;

/// Mode of folders.
const FOLDER: u32 = 0o700;
/// Mode of files.
const FILE: u32 = 0o600;
/// The permission bit of folders that all users may write to.
const STICKY: u32 = 0o1000;

/// What a data directory has after any start.
const OURS: [&str; 2] = ["node-id", "service.lock"];
/// What may be there before the first start: the disk of the depot, and what a new file system brings along.
const BEFORE: [&str; 2] = ["depot", "lost+found"];

/// The data directory, as [`private_folder`]. A folder with other files that others may enter is left as it
/// is: it may be somebody's home, or the whole system.
///
/// # Errors
/// As [`private_folder`], and where it holds other files.
pub fn data_folder(path: &Path, passing_group: Option<u32>) -> io::Result<()> {
    let is_open = path.metadata().is_ok_and(|found| found.mode() & 0o077 & !0o010 != 0);
    if is_open && !is_ours(path)? {
        let what = "it holds other files, and other users can enter it; use an empty folder, or run chmod 700 \
         on it";
        return Err(io::Error::new(io::ErrorKind::PermissionDenied, what));
    }
    private_folder(path, passing_group)
}

/// Whether a folder is a data directory, or as good as empty.
fn is_ours(folder: &Path) -> io::Result<bool> {
    if OURS.iter().any(|name| folder.join(name).exists()) {
        return Ok(true);
    }
    for entry in fs::read_dir(folder)? {
        let name = entry?.file_name();
        if !BEFORE.iter().any(|known| name == *known) {
            return Ok(false);
        }
    }
    Ok(true)
}

/// Makes a folder that only its owner may enter, or makes one that is there so. Where the database runs as
/// another user, that user's group may pass through, and no more.
///
/// # Errors
/// It belongs to another user, is shared with all users, or the operating system refuses.
pub fn private_folder(path: &Path, passing_group: Option<u32>) -> io::Result<()> {
    if !path.exists() {
        DirBuilder::new().recursive(true).mode(FOLDER).create(path)?;
    }
    let folder = File::open(path)?;
    let found = folder.metadata()?;
    if !found.is_dir() {
        return Err(io::Error::new(io::ErrorKind::NotADirectory, "it is not a folder"));
    }
    let own = rustix::process::geteuid();
    if found.uid() != own.as_raw() {
        let what = format!("it belongs to user {}; use a folder of your own", found.uid());
        return Err(io::Error::new(io::ErrorKind::PermissionDenied, what));
    }
    if found.mode() & STICKY != 0 {
        let what = "it is shared by all users; use a folder within it";
        return Err(io::Error::new(io::ErrorKind::PermissionDenied, what));
    }
    let mode = match passing_group {
        Some(group) => {
            let group = rustix::fs::Gid::from_raw(group);
            rustix::fs::fchown(&folder, None, Some(group))?;
            FOLDER | 0o010
        }
        None => FOLDER,
    };
    folder.set_permissions(fs::Permissions::from_mode(mode))
}

/// Writes a file so that it is there whole or not at all, and on the disk.
///
/// # Errors
/// The operating system refuses; the former file stays.
pub fn write_whole(path: &Path, bytes: &[u8]) -> io::Result<()> {
    let unfinished = path.with_extension("new");
    match fs::remove_file(&unfinished) {
        Err(error) if error.kind() != io::ErrorKind::NotFound => return Err(error),
        _ => {}
    }
    let mut file = File::options().write(true).create_new(true).mode(FILE).open(&unfinished)?;
    file.write_all(bytes)?;
    file.sync_all()?;
    fs::rename(&unfinished, path)?;
    match path.parent() {
        Some(folder) => File::open(folder)?.sync_all(),
        None => Ok(()),
    }
}

/// Opens a log to write on at its end, for its owner only.
///
/// # Errors
/// It is a link, or the operating system refuses.
pub fn open_log(path: &Path) -> io::Result<File> {
    use rustix::fs::{Mode, OFlags};
    let flags =
        OFlags::WRONLY | OFlags::APPEND | OFlags::CREATE | OFlags::NOFOLLOW | OFlags::CLOEXEC;
    let log: File = rustix::fs::open(path, flags, Mode::from_raw_mode(FILE))?.into();
    log.set_permissions(fs::Permissions::from_mode(FILE))?;
    Ok(log)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn mode(path: &Path) -> u32 {
        path.metadata().unwrap().mode() & 0o7777
    }

    #[test]
    fn folders_and_files_are_for_their_owner_only_also_those_that_were_open_before() {
        let folder = tempfile::tempdir().unwrap();
        let data = folder.path().join("library/data");
        private_folder(&data, None).unwrap();
        assert_eq!(mode(&data), 0o700);
        fs::set_permissions(&data, fs::Permissions::from_mode(0o777)).unwrap();
        private_folder(&data, None).unwrap();
        assert_eq!(mode(&data), 0o700);
        let key = data.join("key");
        write_whole(&key, b"one").unwrap();
        write_whole(&key, b"two").unwrap();
        assert_eq!((mode(&key), fs::read(&key).unwrap()), (0o600, b"two".to_vec()));
        let log = data.join("log");
        fs::write(&log, "before\n").unwrap();
        open_log(&log).unwrap().write_all(b"after\n").unwrap();
        assert_eq!((mode(&log), fs::read(&log).unwrap()), (0o600, b"before\nafter\n".to_vec()));
        std::os::unix::fs::symlink(&key, data.join("led")).unwrap();
        assert!(open_log(&data.join("led")).is_err(), "a link is not followed");
    }

    #[test]
    fn a_folder_with_files_of_others_is_left_as_it_is() {
        let home = tempfile::tempdir().unwrap();
        fs::set_permissions(home.path(), fs::Permissions::from_mode(0o755)).unwrap();
        fs::write(home.path().join("larkfen-accounts"), "").unwrap();
        let refused = data_folder(home.path(), None).unwrap_err().to_string();
        assert!(refused.contains("holds other files"), "{refused}");
        assert_eq!(mode(home.path()), 0o755);
        // One where only the depot's disk is, and one of an older version, are made private.
        let with_disk = home.path().join("data");
        fs::create_dir_all(with_disk.join("depot")).unwrap();
        fs::set_permissions(&with_disk, fs::Permissions::from_mode(0o755)).unwrap();
        data_folder(&with_disk, None).unwrap();
        assert_eq!(mode(&with_disk), 0o700);
        fs::write(home.path().join("node-id"), "").unwrap();
        data_folder(home.path(), None).unwrap();
        assert_eq!(mode(home.path()), 0o700);
    }

    #[test]
    fn a_folder_for_everybody_is_not_made_private() {
        let folder = tempfile::tempdir().unwrap();
        let shared = folder.path().join("shared");
        fs::create_dir(&shared).unwrap();
        fs::set_permissions(&shared, fs::Permissions::from_mode(0o1777)).unwrap();
        let refused = private_folder(&shared, None).unwrap_err().to_string();
        assert!(refused.contains("shared by all users"), "{refused}");
        assert_eq!(mode(&shared), 0o1777);
        fs::write(folder.path().join("file"), "").unwrap();
        assert!(private_folder(&folder.path().join("file"), None).is_err());
    }
}
