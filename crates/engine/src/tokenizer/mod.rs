//! Conversion of text to tokens and back, as the model file describes it.
//!
//! There are three kinds: byte-level BPE with merges (`tokenizer.ggml.model` = `gpt2`), the sentencepiece kind with scores and
//! byte fallback (`llama`), and WordPiece (`bert`). Control tokens in a text are recognised only if the caller allows it: they
//! are allowed in a template's own output, but not in messages of users.

mod byte_level;
mod lookup;
mod merge;
mod pieces;
mod pre_tokenizer;
mod stream;
mod vocabulary;
mod word_piece;

use aho_corasick::{AhoCorasick, MatchKind};
use deft_formats::gguf::{Metadata, MetadataError};
use thiserror::Error;

use crate::template::Rendered;
use byte_level::ByteLevel;
use pieces::Pieces;
pub use stream::TextStream;
pub use vocabulary::{FillIn, TokenKind, Vocabulary};
use word_piece::WordPiece;

/// Why a file's tokenizer cannot be used.
#[derive(Debug, Error)]
pub enum TokenizerError {
    /// A key is missing or wrong.
    #[error(transparent)]
    Metadata(#[from] MetadataError),
    /// The kind of tokenizer is not supported.
    #[error("tokenizer kind `{0}` is not supported (`gpt2`, `llama` and `bert` are)")]
    Kind(String),
    /// Lists differ in length, or an id is out of range.
    #[error("the tokenizer contradicts itself: {0}")]
    Inconsistent(String),
}

/// Whether a text may contain control tokens.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Specials {
    /// The texts of control tokens become these tokens.
    Recognised,
    /// The texts of control tokens stay text.
    PlainText,
}

enum Model {
    ByteLevel(ByteLevel),
    Pieces(Pieces),
    WordPiece(WordPiece),
}

/// The tokenizer of a file.
pub struct Tokenizer {
    vocabulary: Vocabulary,
    model: Model,
    /// Finds control tokens and user-defined tokens in a text, the longest first.
    all_specials: Option<Finder>,
    /// Finds user-defined tokens only.
    user_defined: Option<Finder>,
    add_begin: bool,
    add_end: bool,
    warnings: Vec<String>,
}

struct Finder {
    automaton: AhoCorasick,
    ids: Vec<u32>,
}

impl Finder {
    fn new(vocabulary: &Vocabulary, wanted: impl Fn(TokenKind) -> bool) -> Option<Self> {
        let (texts, ids): (Vec<&str>, Vec<u32>) = vocabulary
            .iter()
            .filter(|(_, text, kind)| wanted(*kind) && !text.is_empty())
            .map(|(id, text, _)| (text, id))
            .unzip();
        if ids.is_empty() {
            return None;
        }
        let automaton =
            AhoCorasick::builder().match_kind(MatchKind::LeftmostLongest).build(texts).ok()?;
        Some(Self { automaton, ids })
    }
}

impl Tokenizer {
    /// Reads the tokenizer from a file's metadata.
    ///
    /// # Errors
    /// The kind is not supported, a key is missing, or lists and ids contradict each other.
    pub fn new(metadata: &Metadata) -> Result<Self, TokenizerError> {
        let vocabulary = Vocabulary::new(metadata)?;
        let mut warnings = vocabulary.warnings().to_vec();
        let kind = metadata.text("tokenizer.ggml.model")?;
        let (model, begins, ends) = match kind {
            "gpt2" => {
                let (model, warning) = ByteLevel::new(metadata, &vocabulary)?;
                warnings.extend(warning);
                (Model::ByteLevel(model), false, false)
            }
            "llama" => (Model::Pieces(Pieces::new(metadata, &vocabulary)?), true, false),
            "bert" => (Model::WordPiece(WordPiece::new(&vocabulary)), true, true),
            other => return Err(TokenizerError::Kind(other.to_owned())),
        };
        let flag = |key: &str| metadata.optional_bool(key);
        Ok(Self {
            all_specials: Finder::new(&vocabulary, |kind| {
                matches!(kind, TokenKind::Control | TokenKind::UserDefined | TokenKind::Unknown)
            }),
            user_defined: Finder::new(&vocabulary, |kind| kind == TokenKind::UserDefined),
            add_begin: flag("tokenizer.ggml.add_bos_token")?.unwrap_or(begins),
            add_end: flag("tokenizer.ggml.add_eos_token")?.unwrap_or(ends),
            vocabulary,
            model,
            warnings,
        })
    }

    /// The tokens and their texts.
    #[must_use]
    pub fn vocabulary(&self) -> &Vocabulary {
        &self.vocabulary
    }

    /// Warnings for the operator.
    #[must_use]
    pub fn warnings(&self) -> &[String] {
        &self.warnings
    }

    /// Tokens of a text, without the tokens that begin and end a text.
    #[must_use]
    pub fn encode(&self, text: &str, specials: Specials) -> Vec<u32> {
        let finder = match specials {
            Specials::Recognised => self.all_specials.as_ref(),
            Specials::PlainText => self.user_defined.as_ref(),
        };
        let mut ids = Vec::with_capacity(text.len() / 3 + 1);
        let mut from = 0;
        if let Some(finder) = finder {
            for found in finder.automaton.find_iter(text) {
                self.encode_plain(&text[from..found.start()], &mut ids);
                ids.push(finder.ids[found.pattern()]);
                from = found.end();
            }
        }
        self.encode_plain(&text[from..], &mut ids);
        ids
    }

    /// Tokens of a text with the begin and end tokens that the file requires. If the text (the output of a template) already
    /// has the begin token, it is not added again.
    #[must_use]
    pub fn encode_prompt(&self, text: &str, specials: Specials) -> Vec<u32> {
        let ids = self.encode(text, specials);
        self.framed(ids, specials == Specials::Recognised)
    }

    /// Tokens that ask for what is between two texts. There is no end token, because the middle follows.
    #[must_use]
    pub fn encode_around(
        &self,
        marks: FillIn,
        [before, after]: [&str; 2],
        specials: Specials,
    ) -> Vec<u32> {
        let mut ids = Vec::new();
        ids.extend(self.vocabulary.begin().filter(|_| self.add_begin));
        for (mark, text) in [(marks.before, before), (marks.after, after)] {
            ids.push(mark);
            ids.extend(self.encode(text, specials));
        }
        ids.push(marks.middle);
        ids
    }

    /// Adds the begin and end tokens that the file requires. If the text `may_begin` with the begin token and does, it is not
    /// added again.
    fn framed(&self, mut ids: Vec<u32>, may_begin: bool) -> Vec<u32> {
        if let (true, Some(begin)) = (self.add_begin, self.vocabulary.begin())
            && !(may_begin && ids.first() == Some(&begin))
        {
            ids.insert(0, begin);
        }
        if let (true, Some(end)) = (self.add_end, self.vocabulary.end()) {
            ids.push(end);
        }
        ids
    }

    /// Tokens of a rendered conversation. Control tokens are recognised only in what the template wrote.
    #[must_use]
    pub fn encode_rendered(&self, pieces: &[Rendered]) -> Vec<u32> {
        let specials = |trusted| if trusted { Specials::Recognised } else { Specials::PlainText };
        let tokens = |piece: &Rendered| self.encode(&piece.text, specials(piece.trusted));
        let ids = pieces.iter().flat_map(tokens).collect();
        self.framed(ids, pieces.first().is_some_and(|piece| piece.trusted))
    }

    /// The least number of tokens of a text with that many bytes; 0 if it is unknown.
    #[must_use]
    pub fn least_tokens(&self, bytes: usize) -> usize {
        match &self.model {
            // Composing characters (NFC) shortens a text by a third at most.
            Model::ByteLevel(_) | Model::Pieces(_) => {
                bytes * 2 / 3 / self.vocabulary.longest().max(1)
            }
            // An unknown word of any length is one token.
            Model::WordPiece(_) => 0,
        }
    }

    fn encode_plain(&self, text: &str, ids: &mut Vec<u32>) {
        if text.is_empty() {
            return;
        }
        match &self.model {
            Model::ByteLevel(model) => model.encode(text, ids),
            Model::Pieces(model) => model.encode(text, ids),
            Model::WordPiece(model) => model.encode(text, ids),
        }
    }

    /// The bytes of a token's text; empty for control tokens.
    #[must_use]
    pub fn bytes_of(&self, id: u32) -> Vec<u8> {
        let Some((text, kind)) = self.vocabulary.get(id) else {
            return Vec::new();
        };
        match kind {
            TokenKind::Control | TokenKind::Unknown => Vec::new(),
            TokenKind::UserDefined => match &self.model {
                Model::ByteLevel(_) => text.as_bytes().to_vec(),
                Model::Pieces(_) | Model::WordPiece(_) => pieces::unescape(text),
            },
            TokenKind::Byte => vocabulary::byte_of(text).map_or_else(Vec::new, |byte| vec![byte]),
            TokenKind::Normal | TokenKind::Unused => match &self.model {
                Model::ByteLevel(_) => byte_level::bytes_of(text),
                Model::Pieces(_) | Model::WordPiece(_) => pieces::unescape(text),
            },
        }
    }

    /// A stream that converts ids to text one by one. At the `start` of a text, it removes the space that the file's rule adds
    /// before a text.
    #[must_use]
    pub fn stream(&self, start: StreamStart) -> TextStream {
        let strips = match &self.model {
            Model::ByteLevel(_) => false,
            Model::Pieces(model) => model.adds_space() && start == StreamStart::Text,
            Model::WordPiece(_) => start == StreamStart::Text,
        };
        TextStream::new(strips)
    }

    /// The text of ids. Control tokens are left out, and invalid UTF-8 is replaced.
    #[must_use]
    pub fn decode(&self, ids: &[u32]) -> String {
        let mut stream = self.stream(StreamStart::Text);
        let mut text: String = ids.iter().map(|&id| stream.push(&self.bytes_of(id))).collect();
        text.push_str(&stream.finish());
        text
    }
}

/// Where a stream of tokens begins.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum StreamStart {
    /// At the start of a text.
    Text,
    /// In the middle of a text.
    Continuation,
}

#[cfg(test)]
mod tests;
