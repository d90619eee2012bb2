//! The tokens of a prompt, for a caller who wants to see or count them.

use deft_protocol::engine::{FromEngine, TokenTexts, TokenizeOrder};

use super::scores::token_text;
use super::{CallError, prompt};
use crate::model::Words;
use crate::tokenizer::{TokenKind, Tokenizer};

/// Most tokens that are converted at once, which bounds time and memory.
const MOST_TOKENS: usize = 1 << 18;
/// Number of tokens in a message.
const AT_ONCE: usize = 4096;

/// The tokens of a prompt, with their texts if these are requested.
pub(crate) struct Tokenized {
    call: u64,
    tokens: Vec<u32>,
    /// As many as tokens; or one with the text of all; or none.
    texts: Vec<String>,
}

impl Tokenized {
    /// Converts the prompt of a call.
    ///
    /// # Errors
    /// The prompt cannot be rendered, has an unknown token, or is too long.
    pub(crate) fn new(words: &Words, order: TokenizeOrder) -> Result<Self, CallError> {
        let TokenizeOrder { mut of, texts } = order;
        prompt::complete(words, &mut of)?;
        let tokens = match prompt::tokens(words, &of.prompt, &[], Some(MOST_TOKENS)) {
            Ok(tokens) if tokens.len() <= MOST_TOKENS => tokens,
            Ok(_) | Err(CallError::FarTooLong { .. }) => {
                return Err(CallError::TooManyTokens { most: MOST_TOKENS });
            }
            Err(error) => return Err(error),
        };
        let tokenizer = &words.tokenizer;
        let texts = match texts {
            TokenTexts::None => Vec::new(),
            TokenTexts::Each => tokens.iter().map(|&id| token_text(tokenizer, id).text).collect(),
            TokenTexts::Joined => vec![joined(tokenizer, &tokens)],
        };
        Ok(Self { call: of.call, tokens, texts })
    }

    /// Sends all tokens, in several messages if there are many.
    pub(crate) fn send(self, out: &mut Vec<FromEngine>) {
        let Self { call, tokens, mut texts } = self;
        let prompt_tokens = u32::try_from(tokens.len()).unwrap_or(u32::MAX);
        out.push(FromEngine::PromptTaken { call, prompt_tokens });
        let messages = tokens.len().div_ceil(AT_ONCE).max(1);
        for message in 1..=messages {
            let ids = tokens.iter().skip((message - 1) * AT_ONCE).take(AT_ONCE).copied().collect();
            let rest = texts.split_off(texts.len().min(AT_ONCE));
            let texts = std::mem::replace(&mut texts, rest);
            let is_last = message == messages;
            out.push(FromEngine::Tokenized { call, is_last, tokens: ids, texts });
        }
    }
}

/// The text of tokens. Where there are control tokens, they have a text too, and no space is removed at the start.
pub(super) fn joined(tokenizer: &Tokenizer, tokens: &[u32]) -> String {
    let is_control = |&id: &u32| {
        let kind = tokenizer.vocabulary().get(id).map(|(_, kind)| kind);
        matches!(kind, Some(TokenKind::Control | TokenKind::Unknown) | None)
    };
    if !tokens.iter().any(is_control) {
        return tokenizer.decode(tokens);
    }
    let bytes: Vec<u8> = tokens.iter().flat_map(|&id| token_text(tokenizer, id).bytes).collect();
    String::from_utf8_lossy(&bytes).into_owned()
}
