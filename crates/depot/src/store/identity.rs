//! The identity of a depot: a marker file distinguishes a depot from other folders, and from other depots.

use std::fs;
use std::io;
use std::path::Path;

use serde::{Deserialize, Serialize};
use uuid::Uuid;

use super::disk::Disk;
use super::error::{StoreError, failed};

/// The marker's name in the depot's folder.
const MARKER: &str = "depot.json";
const UNFINISHED: &str = "depot.json.unfinished";
/// Of the depot's layout.
const FORM: u32 = 1;
/// Longest marker that is read, in bytes.
const LONGEST: u64 = 4096;

#[derive(Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Marker {
    form: u32,
    id: Uuid,
}

/// Only the form, whatever else a later version writes.
#[derive(Debug, Deserialize)]
struct AnyForm {
    form: u32,
}

/// The identity of the depot in a folder; none where there is no marker, as in an empty folder.
///
/// # Errors
/// The marker cannot be read, or is of a later version.
pub fn identity(root: &Path) -> Result<Option<Uuid>, StoreError> {
    let path = root.join(MARKER);
    let bytes = match fs::metadata(&path) {
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(None),
        Err(error) => return Err(failed("read", &path)(error)),
        Ok(found) if found.len() > LONGEST => Vec::new(),
        Ok(_) => fs::read(&path).map_err(failed("read", &path))?,
    };
    if let Ok(AnyForm { form }) = serde_json::from_slice(&bytes)
        && form != FORM
    {
        return Err(StoreError::OtherForm { path: root.to_owned(), found: form, known: FORM });
    }
    serde_json::from_slice::<Marker>(&bytes)
        .map(|marker| Some(marker.id))
        .map_err(|error| StoreError::MarkerUnusable { path, why: error.to_string() })
}

/// The identity of a depot that is opened; one that has none yet gets it.
pub(super) fn settle(root: &Path, disk: &Disk) -> Result<Uuid, StoreError> {
    if let Some(id) = identity(root)? {
        return Ok(id);
    }
    let marker = Marker { form: FORM, id: Uuid::new_v4() };
    let text = serde_json::to_vec_pretty(&marker).unwrap_or_default();
    let path = root.join(MARKER);
    let written = disk.write(&path, &root.join(UNFINISHED), &text);
    written.and_then(|()| disk.sync(root)).map_err(failed("write", &path))?;
    Ok(marker.id)
}
