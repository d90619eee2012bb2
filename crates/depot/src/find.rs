//! Finding models in a folder and all below it.

use std::path::{Path, PathBuf};

use crate::checkpoint;
use crate::examine::{DepotError, Examined, PROJECTOR, examine, read_error};
use crate::headers::{HeaderReader, RefusalKind};
use crate::name::companion;

/// Folders deeper than this below the first are not looked into.
const DEPTH: usize = 8;
/// The ending of model files.
const ENDING: &str = "gguf";

/// A file that looks like a model.
#[derive(Debug)]
pub struct Found {
    /// Where; of a model in parts the first one.
    pub path: PathBuf,
    /// Its length.
    pub bytes: u64,
    /// What it is, or why it cannot be used.
    pub examined: Result<Examined, DepotError>,
    /// Its image projector in the same folder.
    pub projector: Option<PathBuf>,
}

/// Models in a folder and all below it, in the order of their paths. Links are not followed, so that a
/// ring of them ends; of a model in parts only the first is told, and an image projector is told with the
/// models it belongs to.
///
/// # Errors
/// The folder cannot be read.
pub fn find_models(folder: &Path, reader: &dyn HeaderReader) -> Result<Vec<Found>, DepotError> {
    let mut paths = Vec::new();
    collect(folder, DEPTH, &mut paths).map_err(|source| read_error(folder, source))?;
    paths.sort();
    let models = paths.into_iter().filter(|path| !is_later_part(path)).map(|path| {
        let bytes = path.metadata().map_or(0, |found| found.len());
        Found { examined: examine(&path, reader), path, bytes, projector: None }
    });
    let (projectors, mut models): (Vec<Found>, Vec<Found>) = models.partition(is_projector);
    for model in &mut models {
        let beside = projectors.iter().map(|projector| &*projector.path);
        model.projector = companion(&model.path, beside).map(Path::to_owned);
    }
    let is_used = |projector: &Found| {
        models.iter().any(|model| model.projector.as_ref() == Some(&projector.path))
    };
    // A projector that belongs to no model is listed alone, as a projector.
    let alone: Vec<Found> = projectors.into_iter().filter(|found| !is_used(found)).collect();
    models.extend(alone);
    models.sort_by(|a, b| a.path.cmp(&b.path));
    Ok(models)
}

fn is_projector(found: &Found) -> bool {
    let Err(DepotError::Refused { source, .. }) = &found.examined else {
        return false;
    };
    matches!(&source.kind, RefusalKind::Family(family) if family == PROJECTOR)
}

fn collect(folder: &Path, depth: usize, found: &mut Vec<PathBuf>) -> std::io::Result<()> {
    for entry in std::fs::read_dir(folder)? {
        let entry = entry?;
        let (path, kind) = (entry.path(), entry.file_type()?);
        if kind.is_dir() && depth > 0 {
            // A folder that may not be read hides nothing that could be used.
            let _ = collect(&path, depth - 1, found);
        } else if kind.is_file() && path.extension().is_some_and(|ending| ending == ENDING) {
            found.push(path);
        } else if kind.is_file() && checkpoint::is_one(&path) {
            // The first weights file of a folder represents the checkpoint.
            let known = found
                .iter_mut()
                .find(|known| checkpoint::is_one(known) && known.parent() == path.parent());
            match known {
                Some(known) => *known = path.min(known.clone()),
                None => found.push(path),
            }
        }
    }
    Ok(())
}

/// Whether a name ends in `-00002-of-00003` or a later part's number.
fn is_later_part(path: &Path) -> bool {
    let stem = path.file_stem().unwrap_or_default().to_string_lossy();
    let number = stem.rsplit_once("-of-").and_then(|(rest, _)| rest.rsplit_once('-'));
    number.is_some_and(|(_, digits)| {
        digits.len() == 5 && digits.parse::<u32>().is_ok_and(|part| part > 1)
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::headers::InThisProcess;

    fn project(name: &str) -> PathBuf {
        Path::new(env!("CARGO_MANIFEST_DIR")).join("../..").join(name)
    }

    #[test]
    fn models_in_a_tree_are_found_once_each_with_what_they_are() {
        let folder = tempfile::tempdir().unwrap();
        let place = |source: &str, target: &str| {
            let target = folder.path().join(target);
            std::fs::create_dir_all(target.parent().unwrap()).unwrap();
            std::fs::copy(project(source), target).unwrap();
        };
        place("golden/bad/00-valid-control.gguf", "shelf/deep/larkfen-a.gguf");
        place("golden/bad/04-truncated-data.gguf", "shelf/larkfen-b.gguf");
        place("demo/README.md", "shelf/README.md");
        for part in 1..4 {
            let name = format!("llama-{part:05}-of-00003.gguf");
            place(&format!("golden/split/{name}"), &format!("split/{name}"));
        }
        std::os::unix::fs::symlink(folder.path(), folder.path().join("shelf/ring")).unwrap();
        let found = find_models(folder.path(), &InThisProcess).unwrap();
        let names: Vec<String> = found
            .iter()
            .map(|found| found.path.file_name().unwrap().to_string_lossy().into_owned())
            .collect();
        assert_eq!(names, ["larkfen-a.gguf", "larkfen-b.gguf", "llama-00001-of-00003.gguf"]);
        assert!(found[0].examined.is_ok() && found[2].examined.is_ok());
        assert!(found[1].examined.as_ref().unwrap_err().to_string().contains("truncated"));
        assert!(matches!(
            find_models(&folder.path().join("none"), &InThisProcess),
            Err(DepotError::NoFile { .. })
        ));
    }
}
