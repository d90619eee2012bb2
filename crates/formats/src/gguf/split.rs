//! Models in several files: the first part has the metadata, all have tensors, and the keys
//! `split.no`, `split.count` and `split.tensors.count` say which files belong together.

use std::fs::File;
use std::path::{Path, PathBuf};

use super::tensors::named_once;
use super::{GgufError, Header};

/// Most parts of a model.
const MOST_PARTS: u32 = 1000;

/// A model on disk, in one file or in several parts.
#[derive(Debug, Clone)]
pub struct StoredModel {
    /// Metadata of the first part and the tensors of all; `file_bytes` is their sum.
    pub header: Header,
    /// The files, the first part first.
    pub parts: Vec<PathBuf>,
}

impl StoredModel {
    /// Reads the headers of a model; `path` is its file or the first of its parts.
    ///
    /// # Errors
    /// A header is damaged, a part is missing or belongs to another model, or `path` is not the first part.
    pub fn read(path: &Path) -> Result<Self, GgufError> {
        Self::read_with(path, read)
    }

    /// Reads the headers of a model with the function `open`, which reads the header of the file at a path.
    ///
    /// # Errors
    /// As [`StoredModel::read`].
    pub fn read_with(
        path: &Path,
        mut open: impl FnMut(&Path) -> Result<Header, GgufError>,
    ) -> Result<Self, GgufError> {
        let mut header = open(path)?;
        let count = header.metadata.optional_count("split.count").map_err(key)?.unwrap_or(1);
        let parts = if count > 1 { part_paths(path, &header, count)? } else { vec![path.into()] };
        for (number, part) in (0..).zip(&parts).skip(1) {
            let refused = |error: GgufError| split(part, &error.to_string());
            let other = open(part).map_err(refused)?;
            check(&header, &other, number, count).map_err(|what| split(part, &what))?;
            header.file_bytes += other.file_bytes;
            let tensors = other.tensors.into_iter();
            header.tensors.extend(
                tensors.map(|tensor| super::TensorInfo { part: number as usize, ..tensor }),
            );
        }
        if count > 1 {
            named_once(&header.tensors)?;
            let found = header.tensors.len() as u64;
            let declared = header.metadata.optional_count("split.tensors.count").map_err(key)?;
            if let Some(declared) = declared.filter(|&declared| u64::from(declared) != found) {
                let what =
                    format!("the parts have {found} tensors in total; {declared} are declared");
                return Err(split(path, &what));
            }
        }
        Ok(Self { header, parts })
    }
}

fn read(path: &Path) -> Result<Header, GgufError> {
    let file = File::open(path)?;
    let bytes = file.metadata()?.len();
    Header::read(file, bytes)
}

fn key(error: super::MetadataError) -> GgufError {
    GgufError::Malformed { what: error.to_string(), offset: 0 }
}

fn split(part: &Path, what: &str) -> GgufError {
    GgufError::Split { part: part.to_owned(), what: what.to_owned() }
}

/// The paths of all parts: they differ in the number before `-of-`.
fn part_paths(first: &Path, header: &Header, count: u32) -> Result<Vec<PathBuf>, GgufError> {
    if count > MOST_PARTS {
        let what = format!("it declares {count} parts; at most {MOST_PARTS} are possible");
        return Err(split(first, &what));
    }
    let number = header.metadata.optional_count("split.no").map_err(key)?.unwrap_or(0);
    if number >= count {
        let what = format!("it is number {number} of {count} parts, counted from 0");
        return Err(split(first, &what));
    }
    let name = first.file_name().map(|name| name.to_string_lossy().into_owned());
    let name = name.unwrap_or_default();
    let ending = |number: u32| format!("-{number:05}-of-{count:05}.gguf");
    let Some(stem) = name.strip_suffix(&ending(number + 1)) else {
        let what = format!(
            "it is part {} of {count}, so its name must end in `{}`",
            number + 1,
            ending(number + 1)
        );
        return Err(split(first, &what));
    };
    if number != 0 {
        let what = format!(
            "it is part {} of {count}; name the first one, `{stem}{}`",
            number + 1,
            ending(1)
        );
        return Err(split(first, &what));
    }
    Ok((1..=count).map(|part| first.with_file_name(format!("{stem}{}", ending(part)))).collect())
}

/// Checks that a file is the part with a number.
fn check(first: &Header, part: &Header, number: u32, count: u32) -> Result<(), String> {
    let count_of = |key: &str| part.metadata.optional_count(key).map_err(|error| error.to_string());
    if count_of("split.no")? != Some(number) || count_of("split.count")? != Some(count) {
        return Err(format!("it does not say that it is part {} of {count}", number + 1));
    }
    let family = |header: &Header| {
        header.metadata.optional_text("general.architecture").ok().flatten().map(str::to_owned)
    };
    match family(part) {
        found if found.is_none() || found == family(first) => Ok(()),
        Some(found) => Err(format!("it belongs to a model of the family `{found}`")),
        None => Ok(()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn golden(name: &str) -> PathBuf {
        Path::new(env!("CARGO_MANIFEST_DIR")).join("../../golden").join(name)
    }

    fn part(number: u32) -> PathBuf {
        golden(&format!("split/llama-{number:05}-of-00003.gguf"))
    }

    #[test]
    fn parts_have_the_tensors_of_the_whole() {
        let whole = StoredModel::read(&golden("models/llama.gguf")).unwrap();
        let parts = StoredModel::read(&part(1)).unwrap();
        assert_eq!((whole.parts.len(), parts.parts.len()), (1, 3));
        let names = |file: &StoredModel| {
            let tensors = file.header.tensors.iter();
            let mut names: Vec<_> =
                tensors.map(|tensor| (tensor.name.clone(), tensor.bytes)).collect();
            names.sort();
            names
        };
        assert_eq!(names(&whole), names(&parts));
        let bytes: u64 = parts.parts.iter().map(|path| path.metadata().unwrap().len()).sum();
        assert_eq!(parts.header.file_bytes, bytes);
    }

    #[test]
    fn a_missing_reordered_foreign_or_later_part_is_reported_by_name() {
        let folder = tempfile::tempdir().unwrap();
        let place = |number: u32| folder.path().join(part(number).file_name().unwrap());
        let copy = |from: &Path, to: u32| std::fs::copy(from, place(to)).map(drop).unwrap();
        let message = |number: u32| {
            let error = StoredModel::read(&place(number)).unwrap_err().to_string();
            error.replace(&folder.path().display().to_string(), "DIR")
        };
        let mut cases = Vec::new();
        copy(&part(1), 1);
        copy(&part(2), 2);
        cases.push(("missing", message(1)));
        copy(&part(2), 3);
        cases.push(("twice", message(1)));
        copy(&part(3), 2);
        cases.push(("reordered", message(1)));
        copy(&part(2), 2);
        copy(&golden("models/qwen2.gguf"), 3);
        cases.push(("foreign", message(1)));
        cases.push(("later", message(2)));
        std::fs::rename(place(1), folder.path().join("llama.gguf")).unwrap();
        let renamed = StoredModel::read(&folder.path().join("llama.gguf")).unwrap_err().to_string();
        cases.push(("renamed", renamed.replace(&folder.path().display().to_string(), "DIR")));
        let cases: Vec<String> =
            cases.into_iter().map(|(case, message)| format!("{case}: {message}")).collect();
        insta::assert_snapshot!(cases.join("\n"));
    }
}
