//! The list of tokens with their kinds, and the tokens with a special role.

use std::collections::BTreeSet;
use std::sync::Arc;

use deft_formats::gguf::{Metadata, TextList};

use super::TokenizerError;
use super::lookup::Lookup;

/// The kind of a token, with the numbers of the GGUF specification.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum TokenKind {
    /// Ordinary text.
    Normal,
    /// Represents text without a token.
    Unknown,
    /// A control token, without a text of its own.
    Control,
    /// Added by the model's makers; always recognised in text.
    UserDefined,
    /// An unused entry.
    Unused,
    /// One byte, written `<0xNN>`.
    Byte,
}

/// Tokens around the parts of a text whose middle is wanted.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct FillIn {
    /// Before the text that precedes the middle.
    pub before: u32,
    /// Before the text that follows it.
    pub after: u32,
    /// Before the middle itself.
    pub middle: u32,
}

/// Texts of tokens that end an answer in published templates, in addition to the end tokens of the file.
const KNOWN_ENDS: [&str; 7] = [
    "<|im_end|>",
    "<|eot_id|>",
    "<|end_of_text|>",
    "<|endoftext|>",
    "<end_of_turn>",
    "<|eom_id|>",
    "<|end|>",
];

/// All tokens of a file.
pub struct Vocabulary {
    texts: Arc<TextList>,
    kinds: Vec<TokenKind>,
    ids: Lookup,
    begin: Option<u32>,
    end: Option<u32>,
    unknown: Option<u32>,
    fill_in: Option<FillIn>,
    ends: BTreeSet<u32>,
    warnings: Vec<String>,
}

impl Vocabulary {
    pub(super) fn new(metadata: &Metadata) -> Result<Self, TokenizerError> {
        let texts = Arc::new(metadata.texts("tokenizer.ggml.tokens")?.clone());
        if texts.is_empty() || u32::try_from(texts.len()).is_err() {
            return Err(TokenizerError::Inconsistent(format!("{} tokens", texts.len())));
        }
        let kinds = match metadata.optional_integers("tokenizer.ggml.token_type")? {
            None => vec![TokenKind::Normal; texts.len()],
            Some(numbers) if numbers.len() == texts.len() => {
                numbers.iter().map(|&number| kind(number)).collect::<Result<_, _>>()?
            }
            Some(numbers) => {
                return Err(TokenizerError::Inconsistent(format!(
                    "{} token types for {} tokens",
                    numbers.len(),
                    texts.len()
                )));
            }
        };
        let ids = Lookup::new(&texts, (0..).take(texts.len()));
        let mut vocabulary = Self {
            texts,
            kinds,
            ids,
            begin: None,
            end: None,
            unknown: None,
            fill_in: None,
            ends: BTreeSet::new(),
            warnings: Vec::new(),
        };
        vocabulary.read_roles(metadata)?;
        Ok(vocabulary)
    }

    /// A vocabulary of control tokens, all of which end an answer.
    #[cfg(test)]
    pub(crate) fn of_ends(ends: &[&str]) -> Self {
        let texts: TextList = ends.iter().copied().collect();
        let ids = Lookup::new(&Arc::new(texts.clone()), (0..).take(texts.len()));
        Self {
            kinds: vec![TokenKind::Control; texts.len()],
            ends: (0..).take(texts.len()).collect(),
            texts: Arc::new(texts),
            ids,
            begin: None,
            end: Some(0),
            unknown: None,
            fill_in: None,
            warnings: Vec::new(),
        }
    }

    fn read_roles(&mut self, metadata: &Metadata) -> Result<(), TokenizerError> {
        // Encoders have other names for the same roles; `seperator` is the spelling of many files.
        self.begin = self.first_role(metadata, &["bos", "cls"])?;
        self.end = self.first_role(metadata, &["eos", "seperator", "separator"])?;
        self.unknown = self.role(metadata, "unknown")?;
        self.ends.extend(self.end);
        let before = self.first_role(metadata, &["fim_pre", "prefix"])?;
        let after = self.first_role(metadata, &["fim_suf", "suffix"])?;
        let middle = self.first_role(metadata, &["fim_mid", "middle"])?;
        self.fill_in = match (before, after, middle) {
            (Some(before), Some(after), Some(middle)) => Some(FillIn { before, after, middle }),
            _ => None,
        };
        for name in ["eot", "eom"] {
            let id = self.role(metadata, name)?;
            self.ends.extend(id);
        }
        let known = KNOWN_ENDS.iter().filter_map(|text| self.ids.id(text));
        let known: Vec<u32> = known.filter(|&id| self.kind(id) == TokenKind::Control).collect();
        self.ends.extend(known);
        if self.ends.is_empty() {
            self.warnings.push(
                "the file names no end token: answers end only at a token limit or a stop text"
                    .to_owned(),
            );
        }
        Ok(())
    }

    fn first_role(
        &self,
        metadata: &Metadata,
        names: &[&str],
    ) -> Result<Option<u32>, TokenizerError> {
        for name in names {
            if let Some(id) = self.role(metadata, name)? {
                return Ok(Some(id));
            }
        }
        Ok(None)
    }

    fn role(&self, metadata: &Metadata, name: &str) -> Result<Option<u32>, TokenizerError> {
        let key = format!("tokenizer.ggml.{name}_token_id");
        match metadata.optional_count(&key)? {
            Some(id) if id as usize >= self.texts.len() => Err(TokenizerError::Inconsistent(
                format!("`{key}` is {id}, there are {} tokens", self.texts.len()),
            )),
            found => Ok(found),
        }
    }

    /// Bytes of the longest stored text.
    #[must_use]
    pub fn longest(&self) -> usize {
        self.iter().map(|(_, text, _)| text.len()).max().unwrap_or(0)
    }

    /// Number of tokens.
    #[must_use]
    #[expect(clippy::len_without_is_empty, reason = "a vocabulary is never empty")]
    pub fn len(&self) -> usize {
        self.texts.len()
    }

    /// Ids, texts and kinds in order.
    pub fn iter(&self) -> impl Iterator<Item = (u32, &str, TokenKind)> {
        (0..).zip(self.texts.iter()).zip(&self.kinds).map(|((id, text), kind)| (id, text, *kind))
    }

    /// Stored text and kind of a token.
    #[must_use]
    pub fn get(&self, id: u32) -> Option<(&str, TokenKind)> {
        self.texts.get(id as usize).map(|text| (text, self.kinds[id as usize]))
    }

    fn kind(&self, id: u32) -> TokenKind {
        self.kinds[id as usize]
    }

    /// The id of a stored text; the first one if several tokens have it.
    #[must_use]
    pub fn id(&self, text: &str) -> Option<u32> {
        self.ids.id(text)
    }

    /// Ids by text, for some tokens only.
    pub(super) fn lookup(&self, wanted: impl Fn(TokenKind) -> bool) -> Lookup {
        let ids = self.iter().filter(|(_, _, kind)| wanted(*kind)).map(|(id, ..)| id);
        Lookup::new(&self.texts, ids)
    }

    /// The token that begins a text.
    #[must_use]
    pub fn begin(&self) -> Option<u32> {
        self.begin
    }

    /// The token that ends a text.
    #[must_use]
    pub fn end(&self) -> Option<u32> {
        self.end
    }

    /// The token for text without a token.
    #[must_use]
    pub fn unknown(&self) -> Option<u32> {
        self.unknown
    }

    /// The tokens for filling in a middle, if the file names all of them.
    #[must_use]
    pub fn fill_in(&self) -> Option<FillIn> {
        self.fill_in
    }

    /// Whether this token ends an answer.
    #[must_use]
    pub fn ends_answer(&self, id: u32) -> bool {
        self.ends.contains(&id)
    }

    /// The ids of the tokens that end an answer.
    pub fn ends(&self) -> impl Iterator<Item = u32> {
        self.ends.iter().copied()
    }

    pub(super) fn warnings(&self) -> &[String] {
        &self.warnings
    }
}

fn kind(number: i64) -> Result<TokenKind, TokenizerError> {
    Ok(match number {
        1 => TokenKind::Normal,
        2 => TokenKind::Unknown,
        3 => TokenKind::Control,
        4 => TokenKind::UserDefined,
        5 => TokenKind::Unused,
        6 => TokenKind::Byte,
        other => return Err(TokenizerError::Inconsistent(format!("token type {other}"))),
    })
}

/// The byte of `<0xNN>`.
pub(super) fn byte_of(text: &str) -> Option<u8> {
    let digits = text.strip_prefix("<0x")?.strip_suffix('>')?;
    (digits.len() == 2).then(|| u8::from_str_radix(digits, 16).ok()).flatten()
}
