//! WordPiece: words are cut into the longest known pieces from left to right.
//! Source: Devlin et al. 2018, and its published basic and wordpiece tokenizers.
//!
//! In GGUF a piece that begins a word carries U+2581 in front, one that goes on has lost its `##`.
//! The file does not say whether text is lower-cased: it is where no ordinary token has a capital that would
//! become another letter then (signs such as `ℝ` are capitals, and stay what they are).

use unicode_normalization::UnicodeNormalization;
use unicode_properties::{GeneralCategory, GeneralCategoryGroup, UnicodeGeneralCategory};

use super::lookup::Lookup;
use super::pieces::SPACE;
use super::{TokenKind, Vocabulary};

/// Longer words are unknown.
const LONGEST_WORD: usize = 100;

pub(super) struct WordPiece {
    ids: Lookup,
    longest_piece: usize,
    unknown: Option<u32>,
    lower_case: bool,
}

impl WordPiece {
    pub(super) fn new(vocabulary: &Vocabulary) -> Self {
        let normal = || vocabulary.iter().filter(|(_, _, kind)| *kind == TokenKind::Normal);
        let ids = vocabulary.lookup(|kind| kind == TokenKind::Normal);
        Self {
            longest_piece: ids.texts().map(str::len).max().unwrap_or(0),
            lower_case: normal().all(|(_, text, _)| is_lower_case(text)),
            unknown: vocabulary.unknown(),
            ids,
        }
    }

    pub(super) fn encode(&self, text: &str, ids: &mut Vec<u32>) {
        for word in self.words(text) {
            let before = ids.len();
            if word.chars().count() > LONGEST_WORD || !self.encode_word(&word, ids) {
                ids.truncate(before);
                ids.extend(self.unknown);
            }
        }
    }

    /// Whether the whole word is made of known pieces.
    fn encode_word(&self, word: &str, ids: &mut Vec<u32>) -> bool {
        let marked = format!("{SPACE}{word}");
        let mut rest = marked.as_str();
        while !rest.is_empty() {
            let longest = rest.len().min(self.longest_piece);
            let found = (1..=longest)
                .rev()
                .find_map(|length| Some((length, self.ids.id(rest.get(..length)?)?)));
            let Some((length, id)) = found else {
                return false;
            };
            ids.push(id);
            rest = &rest[length..];
            // A continuation never begins with the mark of a word.
            if rest.starts_with(SPACE) {
                return false;
            }
        }
        true
    }

    /// Words and single signs, cleaned.
    fn words(&self, text: &str) -> Vec<String> {
        let cleaned: String = text.chars().filter(|&letter| !is_dropped(letter)).collect();
        let cleaned: String = if self.lower_case {
            let small = cleaned.to_lowercase();
            small.nfd().filter(|letter| letter.general_category() != MARK).collect()
        } else {
            cleaned
        };
        let mut words = vec![String::new()];
        for letter in cleaned.chars() {
            if letter.is_whitespace() {
                words.push(String::new());
            } else if is_sign(letter) || is_ideograph(letter) {
                words.push(letter.to_string());
                words.push(String::new());
            } else if let Some(word) = words.last_mut() {
                word.push(letter);
            }
        }
        words.retain(|word| !word.is_empty());
        words
    }
}

/// Whether a text stays as it is where capitals become small letters.
fn is_lower_case(text: &str) -> bool {
    text.chars().flat_map(char::to_lowercase).eq(text.chars())
}

const MARK: GeneralCategory = GeneralCategory::NonspacingMark;

/// Control and format characters, but not white space.
fn is_dropped(letter: char) -> bool {
    let is_space = matches!(letter, '\t' | '\n' | '\r');
    let other = letter.general_category_group() == GeneralCategoryGroup::Other;
    letter == '\u{FFFD}' || other && !is_space
}

/// Punctuation, and every ASCII character that is neither letter, digit nor space.
fn is_sign(letter: char) -> bool {
    letter.is_ascii_punctuation()
        || letter.general_category_group() == GeneralCategoryGroup::Punctuation
}

/// Ideographs stand alone, as their languages write no spaces between words.
fn is_ideograph(letter: char) -> bool {
    matches!(u32::from(letter),
        0x4E00..=0x9FFF | 0x3400..=0x4DBF | 0x20000..=0x2A6DF | 0x2A700..=0x2B73F
        | 0x2B740..=0x2B81F | 0x2B820..=0x2CEAF | 0xF900..=0xFAFF | 0x2F800..=0x2FA1F)
}
