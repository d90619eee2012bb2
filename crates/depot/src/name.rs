//! Names of models and variants.

use std::fmt;
use std::path::Path;
use std::str::FromStr;

use thiserror::Error;

use crate::checkpoint;

/// Longest name of a model or of a variant, in bytes.
const LONGEST: usize = 96;
/// Most parts that a model is in.
const MOST_PARTS: u32 = 1000;

/// Similarity, of at most 1, above which names are alike.
const ALIKE: f64 = 0.8;

/// Longest name of a file, in bytes, as file systems have it.
const LONGEST_FILE_NAME: usize = 255;

/// Whether a name from outside can be that of a file or folder, and leads nowhere else.
pub(crate) fn is_plain_part(part: &str) -> bool {
    !matches!(part, "" | "." | "..")
        && part.len() <= LONGEST_FILE_NAME
        && !part.contains(|letter: char| letter == '\\' || letter.is_control())
}

/// Whether a path from outside, names joined by `/`, leads to something below where it begins.
pub(crate) fn is_plain_path(path: &str) -> bool {
    path.split('/').all(is_plain_part)
}

/// `model/variant`.
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct VariantName {
    /// The model.
    pub model: String,
    /// The variant within it.
    pub variant: String,
}

/// A name that cannot be used.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error(
    "`{0}` is not a valid name: use `model` or `model/variant`, each at most {LONGEST} letters, digits, `.`, \
     `_` and `-`, beginning with a letter or digit"
)]
pub struct NameError(pub String);

impl VariantName {
    /// A name from what the operator gave, `quantisation` standing in for a variant not given.
    ///
    /// # Errors
    /// The name has characters that would not travel well through paths and addresses.
    pub fn given(text: &str, quantisation: &str) -> Result<Self, NameError> {
        match text.split_once('/') {
            Some(_) => text.parse(),
            None => {
                format!("{text}/{quantisation}").parse().map_err(|_| NameError(text.to_owned()))
            }
        }
    }

    /// A name from the file's own: its stem without the quantisation at its end.
    ///
    /// # Errors
    /// Nothing usable is left of the file's name.
    pub fn from_file(path: &Path, quantisation: &str) -> Result<Self, NameError> {
        if checkpoint::is_one(path) {
            // The files of all checkpoints have the same names, so the folder's name is used.
            let folder = path.parent().and_then(Path::file_name).unwrap_or_default();
            return Self::cleaned(&folder.to_string_lossy().to_lowercase(), checkpoint::ENDING);
        }
        let stem = path.file_stem().unwrap_or_default().to_string_lossy().to_lowercase();
        let stem = without_part(&stem);
        let model = stem
            .strip_suffix(quantisation)
            .and_then(|rest| rest.strip_suffix(['-', '.', '_']))
            .unwrap_or(stem);
        Self::cleaned(model, quantisation)
    }

    fn cleaned(model: &str, variant: &str) -> Result<Self, NameError> {
        let clean: String =
            model.chars().map(|letter| if is_allowed(letter) { letter } else { '-' }).collect();
        let clean = clean.trim_matches(|letter: char| !letter.is_ascii_alphanumeric());
        format!("{clean}/{variant}").parse()
    }
}

/// A stem without `-00001-of-00003`, the mark of a part.
pub(crate) fn without_part(stem: &str) -> &str {
    let digits = |text: &str| text.len() == 5 && text.bytes().all(|byte| byte.is_ascii_digit());
    let part = stem.rsplit_once("-of-").and_then(|(rest, count)| {
        let (model, number) = rest.rsplit_once('-')?;
        (digits(count) && digits(number)).then_some(model)
    });
    part.unwrap_or(stem)
}

/// The names of all parts of a model whose first part has this name; of a whole model its own.
pub(crate) fn all_parts(name: &str) -> Vec<String> {
    let alone = || vec![name.to_owned()];
    let Some((stem, ending)) = name.rsplit_once('.') else {
        return alone();
    };
    let model = without_part(stem);
    let count = stem.rsplit_once("-of-").and_then(|(_, count)| count.parse::<u32>().ok());
    match count {
        Some(count @ 1..=MOST_PARTS) if model.len() < stem.len() => {
            (1..=count).map(|part| format!("{model}-{part:05}-of-{count:05}.{ending}")).collect()
        }
        _ => alone(),
    }
}

/// In the name of a projector, what comes before is what it belongs to.
const PROJECTOR: &str = "projector";

/// Whether a file's name says that it is an image projector.
pub(crate) fn is_projector(path: &Path) -> bool {
    path.file_name().is_some_and(|name| name.to_string_lossy().contains(PROJECTOR))
}

/// Of the image projectors at these paths the one that belongs to a model: it is in the same folder, and
/// what its name says before `projector` is how the model's begins. The longest such beginning wins; a
/// name that says nothing goes with all.
pub(crate) fn companion<'a>(
    model: &Path,
    projectors: impl Iterator<Item = &'a Path>,
) -> Option<&'a Path> {
    let name = |path: &Path| path.file_name().unwrap_or_default().to_string_lossy().to_lowercase();
    let model_name = name(model);
    let beside = projectors.filter(|projector| projector.parent() == model.parent());
    let fitting = beside.filter_map(|projector| {
        let own = name(projector);
        let begins = own.split_once(PROJECTOR).map_or("", |(before, _)| before);
        let begins = begins.trim_end_matches(['-', '_', '.']);
        model_name.starts_with(begins).then_some((begins.len(), projector))
    });
    fitting.max_by_key(|(length, _)| *length).map(|(_, projector)| projector)
}

impl FromStr for VariantName {
    type Err = NameError;

    fn from_str(text: &str) -> Result<Self, NameError> {
        let error = || NameError(text.to_owned());
        let (model, variant) = text.split_once('/').ok_or_else(error)?;
        if [model, variant].into_iter().all(is_name) {
            Ok(Self { model: model.to_owned(), variant: variant.to_owned() })
        } else {
            Err(error())
        }
    }
}

impl fmt::Display for VariantName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}/{}", self.model, self.variant)
    }
}

fn is_allowed(letter: char) -> bool {
    letter.is_ascii_alphanumeric() || matches!(letter, '.' | '_' | '-')
}

fn is_name(text: &str) -> bool {
    text.len() <= LONGEST
        && text.starts_with(|letter: char| letter.is_ascii_alphanumeric())
        && text.chars().all(is_allowed)
}

/// The item whose name is most similar to `wanted`, if any is similar enough (Jaro-Winkler similarity).
pub fn most_alike<T>(
    wanted: &str,
    names: impl IntoIterator<Item = (impl AsRef<str>, T)>,
) -> Option<T> {
    let rated = names
        .into_iter()
        .map(|(name, what)| (strsim::jaro_winkler(name.as_ref(), wanted), what))
        .filter(|(similarity, _)| *similarity > ALIKE);
    rated.max_by(|a, b| a.0.total_cmp(&b.0)).map(|(_, what)| what)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_come_from_files_without_their_quantisation() {
        let name =
            |file: &str| VariantName::from_file(Path::new(file), "q8_0").unwrap().to_string();
        assert_eq!(name("/depot/larkfen-desk-q8_0.gguf"), "larkfen-desk/q8_0");
        assert_eq!(name("Larkfen Desk.Q8_0.gguf"), "larkfen-desk/q8_0");
        assert_eq!(name("larkfen-desk.gguf"), "larkfen-desk/q8_0");
        assert_eq!(name("larkfen-desk-q8_0-00001-of-00003.gguf"), "larkfen-desk/q8_0");
        assert_eq!(name("larkfen-1-of-3.gguf"), "larkfen-1-of-3/q8_0");
        assert_eq!(name("/srv/Larkfen Desk/model.safetensors"), "larkfen-desk/safetensors");
    }

    #[test]
    fn paths_from_outside_lead_nowhere_else() {
        assert!(is_plain_path("a/b.gguf") && is_plain_path("b..gguf"));
        let long = "x".repeat(256);
        for path in ["../a", "a/../b", "/a", "a//b", "a/", "a\\b", "a\nb", ".", "", &long] {
            assert!(!is_plain_path(path), "{path:?}");
        }
    }

    #[test]
    fn names_that_would_not_travel_are_refused() {
        for text in ["", "a/b/c", "../etc", "/q8_0", "larkfen desk", "larkfen/", "-x", "a?b"] {
            assert!(VariantName::given(text, "q8_0").is_err(), "{text:?}");
        }
        assert_eq!(VariantName::given("desk/small", "q8_0").unwrap().to_string(), "desk/small");
        assert_eq!(VariantName::given("desk", "f16").unwrap().to_string(), "desk/f16");
    }
}
