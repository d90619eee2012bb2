//! WordPiece: words are divided into the longest known pieces, from left to right.
//! Source: Devlin et al. 2018, and its published basic and wordpiece tokenizers.
//!
//! In GGUF, a piece that begins a word starts with U+2581, and a piece that continues a word has no `##`. The file does not
//! contain whether text is converted to small letters. It is, unless an ordinary token has a capital letter that this would
//! change. (Signs such as `ℝ` are capital letters that it does not change.)

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

    /// Whether the whole word consists of known pieces.
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
            // A piece that continues a word never has the mark of a word's beginning.
            if rest.starts_with(SPACE) {
                return false;
            }
        }
        true
    }

    /// Words and single signs, without control characters.
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

/// Whether conversion to small letters does not change a text.
fn is_lower_case(text: &str) -> bool {
    text.chars().flat_map(char::to_lowercase).eq(text.chars())
}

const MARK: GeneralCategory = GeneralCategory::NonspacingMark;

/// Whether a character is a control or format character, but not white space.
fn is_dropped(letter: char) -> bool {
    let is_space = matches!(letter, '\t' | '\n' | '\r');
    let other = letter.general_category_group() == GeneralCategoryGroup::Other;
    letter == '\u{FFFD}' || other && !is_space
}

/// Whether a character is punctuation, or ASCII but no letter, digit or space.
fn is_sign(letter: char) -> bool {
    letter.is_ascii_punctuation()
        || letter.general_category_group() == GeneralCategoryGroup::Punctuation
}

/// Whether a character is an ideograph. Ideographs are single words, because their languages do not use spaces.
fn is_ideograph(letter: char) -> bool {
    matches!(u32::from(letter),
        0x4E00..=0x9FFF | 0x3400..=0x4DBF | 0x20000..=0x2A6DF | 0x2A700..=0x2B73F
        | 0x2B740..=0x2B81F | 0x2B820..=0x2CEAF | 0xF900..=0xFAFF | 0x2F800..=0x2FA1F)
}
