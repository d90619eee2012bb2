//! Names of unfinished files in `incoming`.

use std::path::{Path, PathBuf};
use std::time::Duration;

use super::digest::Digest;

/// Time for which the data of an interrupted pull stays.
const KEPT: Duration = Duration::from_secs(7 * 24 * 3600);
/// A file that is being written.
pub(super) const TAKE: &str = "take";
/// A variant that is being laid out, or the old state of one.
pub(super) const STATE: &str = "state";
/// A variant that was removed.
pub(super) const GONE: &str = "gone";
/// The error of content that differs from the announced content.
pub(super) const WRONG: &str = "wrong";
/// Content that is not what its digest says, while good content is fetched.
pub(super) const SPOILT: &str = "spoilt";
/// Tells of an object that no variant may name.
pub(super) const NOTE: &str = "object";

/// Kinds of files in `incoming`.
pub(super) enum Unfinished {
    /// It is useless.
    Rest,
    /// A partial file, which a pull may continue.
    Partial,
    Spoilt(Digest),
    Note(Digest),
    /// Not ours.
    Unknown,
}

impl Unfinished {
    pub(super) fn of(path: &Path) -> Self {
        let Some(name) = path.file_name().and_then(|name| name.to_str()) else {
            return Self::Unknown;
        };
        if is_partial(name) {
            return Self::Partial;
        }
        let Some((kind, rest)) = name.split_once('-') else {
            return Self::Unknown;
        };
        let is_number = !rest.is_empty() && rest.bytes().all(|byte| byte.is_ascii_digit());
        match (kind, rest.parse()) {
            (TAKE | STATE | GONE, _) if is_number => Self::Rest,
            (WRONG, _) => Self::Rest,
            (SPOILT, Ok(digest)) => Self::Spoilt(digest),
            (NOTE, Ok(digest)) => Self::Note(digest),
            _ => Self::Unknown,
        }
    }
}

/// Content and journal of a partial file, by its key.
pub(crate) fn partial_paths(incoming: &Path, key: &str) -> (PathBuf, PathBuf) {
    (incoming.join(format!("{key}.part")), incoming.join(format!("{key}.segments")))
}

/// Whether a name is that of a partial file: its key is a digest.
fn is_partial(name: &str) -> bool {
    let key = name.strip_suffix(".part").or_else(|| name.strip_suffix(".segments"));
    key.is_some_and(|key| key.parse::<Digest>().is_ok())
}

/// Whether a partial file is young enough to be continued. A clock that was set back makes it no older.
pub(super) fn is_recent(path: &Path) -> bool {
    let written = path.metadata().and_then(|found| found.modified());
    written.is_ok_and(|at| at.elapsed().map_or(true, |age| age < KEPT))
}
