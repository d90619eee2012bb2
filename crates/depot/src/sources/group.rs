//! Files of a repository, sorted into variants: parts belong together, a projector belongs to the models
//! beside it, a checkpoint is one variant with all its files.

use std::collections::BTreeMap;
use std::path::Path;

use super::{About, Content, Offer, OfferedFile};
use crate::checkpoint::{COMPANIONS, CONFIG};
use crate::name::companion;
use crate::store::{Digest, FileRole};

/// The variant that a checkpoint is.
pub(super) const CHECKPOINT: &str = "safetensors";

/// Whether a file is a model's, or goes with one.
pub(super) fn is_of_a_model(path: &str) -> bool {
    path.ends_with(".gguf")
        || path.ends_with(".safetensors")
        || COMPANIONS.contains(&file_name(path))
}

/// A file as it was found.
#[derive(Debug, Clone)]
pub(super) struct Found {
    /// Names joined by `/`.
    pub(super) path: String,
    pub(super) bytes: Option<u64>,
    pub(super) sha256: Option<Digest>,
    pub(super) content: Content,
}

/// Whether a word is the name of a tensor type or of a mix.
pub(super) fn looks_like_a_type(word: &str) -> bool {
    let word = word.to_ascii_lowercase();
    let quantised = word.strip_prefix("iq").or_else(|| word.strip_prefix('q'));
    matches!(&word[..], "f16" | "bf16" | "f32" | "fp16" | "fp32")
        || quantised.is_some_and(|rest| {
            rest.starts_with(|digit: char| digit.is_ascii_digit())
                && rest.chars().all(|letter| letter.is_ascii_alphanumeric() || letter == '_')
        })
}

/// Tensor type in a file's stem, and the rest of the stem.
fn parted(stem: &str) -> (&str, Option<&str>) {
    let cut = stem.rfind(['-', '.']);
    match cut.map(|at| (&stem[..at], &stem[at + 1..])) {
        Some((model, word)) if looks_like_a_type(word) => (model, Some(word)),
        _ => (stem, None),
    }
}

fn file_name(path: &str) -> &str {
    path.rsplit('/').next().unwrap_or(path)
}

fn folder(path: &str) -> &str {
    path.rsplit_once('/').map_or("", |(folder, _)| folder)
}

fn offered(found: &Found, role: FileRole) -> OfferedFile {
    OfferedFile {
        role,
        name: file_name(&found.path).to_owned(),
        bytes: found.bytes,
        sha256: found.sha256,
        content: found.content.clone(),
    }
}

/// The variants of a repository.
pub(super) fn group(model: &str, revision: Option<&str>, mut files: Vec<Found>) -> Vec<Offer> {
    files.sort_by(|a, b| a.path.cmp(&b.path));
    let mut stems: BTreeMap<String, Vec<&Found>> = BTreeMap::new();
    let mut projectors = Vec::new();
    for file in &files {
        let Some(stem) = file.path.strip_suffix(".gguf") else {
            continue;
        };
        if crate::name::is_projector(Path::new(&file.path)) {
            projectors.push(file);
        } else {
            stems.entry(crate::name::without_part(stem).to_owned()).or_default().push(file);
        }
    }
    let types = stems.keys().map(|stem| parted(stem).1.map(str::to_lowercase));
    let types: Vec<Option<String>> = types.collect();
    let is_alone =
        |word: &String| types.iter().flatten().filter(|other| *other == word).count() == 1;
    let mut offers = Vec::new();
    for (stem, parts) in &stems {
        let word = parted(stem).1.map(str::to_lowercase);
        let variant = word.clone().filter(|word| is_alone(word));
        let weights = parts.iter().map(|file| offered(file, FileRole::Weights));
        let paths = projectors.iter().map(|file| Path::new(&file.path));
        let chosen = companion(Path::new(stem), paths);
        let beside = projectors.iter().filter(|file| chosen == Some(Path::new(&file.path)));
        let beside = beside.map(|file| offered(file, FileRole::Projector));
        offers.push(offer(
            model,
            variant.unwrap_or_else(|| file_name(stem).to_owned()),
            revision,
            weights.chain(beside).collect(),
            word,
        ));
    }
    offers.extend(checkpoint(model, revision, &files));
    offers
}

fn checkpoint(model: &str, revision: Option<&str>, files: &[Found]) -> Option<Offer> {
    let is_weights = |file: &&Found| file.path.ends_with(".safetensors");
    let place = folder(&files.iter().find(is_weights)?.path);
    let here = || files.iter().filter(|file| folder(&file.path) == place);
    if !here().any(|file| file_name(&file.path) == CONFIG) {
        return None;
    }
    let weights = here().filter(is_weights).map(|file| offered(file, FileRole::Weights));
    let others = here().filter(|file| COMPANIONS.contains(&file_name(&file.path)));
    let others = others.map(|file| offered(file, FileRole::Config));
    let files = weights.chain(others).collect();
    Some(offer(model, CHECKPOINT.to_owned(), revision, files, None))
}

fn offer(
    model: &str,
    variant: String,
    revision: Option<&str>,
    files: Vec<OfferedFile>,
    quantisation: Option<String>,
) -> Offer {
    let about = About { quantisation, ..About::default() };
    let revision = revision.map(str::to_owned);
    Offer { model: model.to_owned(), variant, revision, about, shape: None, files }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn found(path: &str) -> Found {
        let content = Content::Here(path.into());
        Found { path: path.to_owned(), bytes: Some(1), sha256: None, content }
    }

    #[test]
    fn files_are_sorted_into_variants() {
        let files = [
            "larkfen-desk-Q8_0.gguf",
            "larkfen-desk-f16-00002-of-00002.gguf",
            "larkfen-desk-f16-00001-of-00002.gguf",
            "larkfen-projector-f16.gguf",
            "larkfen-leaf-q8_0.gguf",
            "larkfen-leaf-projector-f16.gguf",
            "other/seed-q4_0.gguf",
            "other/pod-q4_0.gguf",
            "notes.gguf",
            "README.md",
            "model-00001-of-00002.safetensors",
            "config.json",
            "tokenizer.json",
        ];
        let offers = group("larkfen", Some("4f0c"), files.map(found).to_vec());
        let offered: Vec<String> = offers
            .iter()
            .map(|offer| {
                let files: Vec<&str> = offer.files.iter().map(|file| &file.name[..]).collect();
                format!("{}: {}", offer.path(), files.join(" "))
            })
            .collect();
        insta::assert_snapshot!(offered.join("\n"));
    }

    #[test]
    fn words_that_are_types() {
        for word in ["q8_0", "Q4_K_M", "iq4_xs", "F16", "bf16"] {
            assert!(looks_like_a_type(word), "{word}");
        }
        for word in ["quill", "desk", "q", "iq", "q8-0", "f17", ""] {
            assert!(!looks_like_a_type(word), "{word}");
        }
    }
}
