//! Byte-level BPE: bytes are written as printable characters, which are merged by rank within pre-tokens.
//! Source: Radford et al. 2019, "Language Models are Unsupervised Multitask Learners", section 2.2,
//! and its published encoder.

use std::collections::HashMap;

use deft_formats::gguf::Metadata;

use super::lookup::Lookup;
use super::merge::{merge, symbols};
use super::pre_tokenizer::PreTokenizer;
use super::{TokenizerError, Vocabulary};

pub(super) struct ByteLevel {
    pre_tokenizer: PreTokenizer,
    /// The token of each single byte.
    bytes: [Option<u32>; 256],
    /// Rank and result of each pair of tokens.
    merges: HashMap<(u32, u32), (u32, u32)>,
    /// Whole pre-tokens, if the pre-tokenizer looks them up in the vocabulary before merging.
    whole: Option<Lookup>,
    unknown: Option<u32>,
}

impl ByteLevel {
    pub(super) fn new(
        metadata: &Metadata,
        vocabulary: &Vocabulary,
    ) -> Result<(Self, Option<String>), TokenizerError> {
        let name = metadata.optional_text("tokenizer.ggml.pre")?.unwrap_or("default");
        let (pre_tokenizer, warning) = PreTokenizer::named(name);
        let bytes = std::array::from_fn(|byte| {
            #[expect(clippy::cast_possible_truncation, reason = "the array has 256 places")]
            vocabulary.id(&printable(byte as u8).to_string())
        });
        let lines = metadata.texts("tokenizer.ggml.merges")?;
        let mut merges = HashMap::with_capacity(lines.len());
        for (rank, line) in (0..).zip(lines.iter()) {
            let Some((left, right)) = line.split_once(' ') else {
                return Err(TokenizerError::Inconsistent(format!("merge `{line}` has no space")));
            };
            let merged = vocabulary.id(&format!("{left}{right}"));
            if let (Some(left), Some(right), Some(merged)) =
                (vocabulary.id(left), vocabulary.id(right), merged)
            {
                merges.entry((left, right)).or_insert((rank, merged));
            }
        }
        let whole = pre_tokenizer.takes_whole_words().then(|| vocabulary.lookup(|_| true));
        let unknown = vocabulary.unknown();
        Ok((Self { pre_tokenizer, bytes, merges, whole, unknown }, warning))
    }

    pub(super) fn encode(&self, text: &str, ids: &mut Vec<u32>) {
        let text = self.pre_tokenizer.normalised(text);
        for word in self.pre_tokenizer.split(&text) {
            self.encode_word(word, ids);
        }
    }

    fn encode_word(&self, word: &str, ids: &mut Vec<u32>) {
        if let Some(whole) = &self.whole {
            let printed: String = word.bytes().map(printable).collect();
            if let Some(id) = whole.id(&printed) {
                ids.push(id);
                return;
            }
        }
        let runs = word.bytes().enumerate();
        let mut symbols =
            symbols(runs.map(|(at, byte)| (at..at + 1, self.bytes[usize::from(byte)])));
        merge(&mut symbols, |left, right| self.merges.get(&(left.id?, right.id?)).copied());
        let left_over = symbols.iter().filter(|symbol| symbol.start < symbol.end);
        ids.extend(left_over.filter_map(|symbol| symbol.id.or(self.unknown)));
    }
}

/// The printable character that represents a byte: the byte itself if it is printable, otherwise one from U+0100 on.
fn printable(byte: u8) -> char {
    match byte {
        b'!'..=b'~' | 0xA1..=0xAC | 0xAE..=0xFF => char::from(byte),
        0..=0x20 => shifted(u32::from(byte)),
        0x7F..=0xA0 => shifted(u32::from(byte) - 0x7F + 0x21),
        0xAD => shifted(0x21 + 0x22),
    }
}

fn shifted(place: u32) -> char {
    char::from_u32(0x100 + place).expect("U+0100 to U+0143 are characters")
}

/// The bytes of a token's stored text; characters that represent no byte keep their UTF-8 bytes.
pub(super) fn bytes_of(text: &str) -> Vec<u8> {
    let mut bytes = Vec::with_capacity(text.len());
    for character in text.chars() {
        #[expect(clippy::cast_possible_truncation, reason = "each arm is bounded")]
        match u32::from(character) {
            code @ (0x21..=0x7E | 0xA1..=0xAC | 0xAE..=0xFF) => bytes.push(code as u8),
            code @ 0x100..=0x120 => bytes.push((code - 0x100) as u8),
            code @ 0x121..=0x142 => bytes.push((code - 0x121 + 0x7F) as u8),
            0x143 => bytes.push(0xAD),
            _ => bytes.extend_from_slice(character.encode_utf8(&mut [0; 4]).as_bytes()),
        }
    }
    bytes
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_byte_prints_and_returns() {
        for byte in 0..=255u8 {
            assert_eq!(bytes_of(&printable(byte).to_string()), [byte]);
        }
    }
}
