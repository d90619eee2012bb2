//! The sentencepiece kind: pieces are merged by the score of the result; text without a piece becomes byte tokens.
//! Source: Kudo and Richardson 2018, "SentencePiece".

use std::cmp::Reverse;

use deft_formats::gguf::Metadata;

use super::lookup::Lookup;
use super::merge::{Symbol, merge, symbols};
use super::{TokenKind, TokenizerError, Vocabulary, vocabulary};

/// Represents a space in stored pieces.
pub(super) const SPACE: char = '\u{2581}';

pub(super) struct Pieces {
    /// Pieces that text may be merged into.
    pieces: Lookup,
    /// The score of each token, as a sortable integer.
    scores: Vec<Reverse<i64>>,
    bytes: [Option<u32>; 256],
    unknown: Option<u32>,
    adds_space: bool,
}

impl Pieces {
    pub(super) fn new(
        metadata: &Metadata,
        vocabulary: &Vocabulary,
    ) -> Result<Self, TokenizerError> {
        let key = "tokenizer.ggml.scores";
        let scores = metadata.optional_floats(key)?.ok_or_else(|| {
            TokenizerError::Inconsistent(format!("a `llama` tokenizer without `{key}`"))
        })?;
        if scores.len() != vocabulary.len() {
            return Err(TokenizerError::Inconsistent(format!(
                "{} scores for {} tokens",
                scores.len(),
                vocabulary.len()
            )));
        }
        let mut bytes = [None; 256];
        for (id, text, _) in vocabulary.iter().filter(|(_, _, kind)| *kind == TokenKind::Byte) {
            if let Some(byte) = vocabulary::byte_of(text) {
                bytes[usize::from(byte)] = Some(id);
            }
        }
        let pieces = vocabulary.lookup(|kind| kind == TokenKind::Normal);
        let scores = scores.iter().map(|&score| Reverse(sortable(score))).collect();
        let adds_space = metadata.optional_bool("tokenizer.ggml.add_space_prefix")?.unwrap_or(true);
        Ok(Self { pieces, scores, bytes, unknown: vocabulary.unknown(), adds_space })
    }

    pub(super) fn adds_space(&self) -> bool {
        self.adds_space
    }

    pub(super) fn encode(&self, text: &str, ids: &mut Vec<u32>) {
        let mut escaped = String::with_capacity(text.len() + 3);
        if self.adds_space {
            escaped.push(SPACE);
        }
        escaped.extend(text.chars().map(|letter| if letter == ' ' { SPACE } else { letter }));
        let mut symbols = symbols(escaped.char_indices().map(|(at, letter)| {
            let range = at..at + letter.len_utf8();
            let id = self.pieces.id(&escaped[range.clone()]);
            (range, id)
        }));
        merge(&mut symbols, |left: &Symbol, right: &Symbol| {
            let id = self.pieces.id(&escaped[left.start..right.end])?;
            Some((self.scores[id as usize], id))
        });
        for symbol in symbols.iter().filter(|symbol| symbol.start < symbol.end) {
            match symbol.id {
                Some(id) => ids.push(id),
                None => self.encode_bytes(&escaped[symbol.start..symbol.end], ids),
            }
        }
    }

    fn encode_bytes(&self, piece: &str, ids: &mut Vec<u32>) {
        let tokens: Option<Vec<u32>> =
            piece.bytes().map(|byte| self.bytes[usize::from(byte)]).collect();
        match tokens {
            Some(tokens) => ids.extend(tokens),
            None => ids.extend(self.unknown),
        }
    }
}

/// An integer with the same order as the float.
fn sortable(score: f64) -> i64 {
    let bits = score.to_bits().cast_signed();
    bits ^ ((bits >> 63).cast_unsigned() >> 1).cast_signed()
}

/// The bytes of a stored piece.
pub(super) fn unescape(text: &str) -> Vec<u8> {
    text.replace(SPACE, " ").into_bytes()
}

#[cfg(test)]
mod tests {
    use super::sortable;

    #[test]
    fn sortable_integers_keep_the_order_of_floats() {
        let scores = [f64::NEG_INFINITY, -1e9, -2.5, -0.0, 0.0, 1e-9, 3.0, f64::INFINITY];
        assert!(scores.map(sortable).is_sorted());
    }
}
