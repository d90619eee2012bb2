//! The tokens of a prompt, for a caller who wants to see or count them.

use deft_protocol::engine::{CallOrder, FromEngine, TokenText};

use super::scores::token_text;
use super::{CallError, prompt};
use crate::model::Words;
use crate::tokenizer::TokenKind;

/// Most tokens that are sent: more than the context of any model, and some ten megabytes.
const MOST_TOKENS: usize = 1 << 18;
/// Number of tokens in a message.
const AT_ONCE: usize = 4096;

/// Tokens of a prompt, and the text that they stand for.
pub(crate) struct Tokenized {
    call: u64,
    tokens: Vec<TokenText>,
    text: String,
}

impl Tokenized {
    /// Converts the prompt of a call.
    ///
    /// # Errors
    /// The prompt cannot be rendered, has an unknown token, or is too long.
    pub(crate) fn new(words: &Words, mut order: CallOrder) -> Result<Self, CallError> {
        prompt::complete(words, &mut order)?;
        let tokens = prompt::tokens(words, &order.prompt, &[], Some(MOST_TOKENS))?;
        if tokens.len() > MOST_TOKENS {
            return Err(CallError::TooLong { tokens: tokens.len(), context: MOST_TOKENS });
        }
        let is_text = |&&id: &&u32| {
            let kind = words.tokenizer.vocabulary().get(id).map(|(_, kind)| kind);
            !matches!(kind, Some(TokenKind::Control | TokenKind::Unknown) | None)
        };
        // Control tokens have a text too, and the rule about a space at the start of a text applies only without them.
        let tokenizer = &words.tokenizer;
        let text = match tokens.iter().all(|id| is_text(&id)) {
            true => tokenizer.decode(&tokens),
            false => {
                let bytes = tokens.iter().flat_map(|&id| token_text(tokenizer, id).bytes);
                String::from_utf8_lossy(&bytes.collect::<Vec<u8>>()).into_owned()
            }
        };
        let tokens = tokens.iter().map(|&id| token_text(tokenizer, id)).collect();
        Ok(Self { call: order.call, tokens, text })
    }

    /// Sends all tokens, in several messages if there are many.
    pub(crate) fn send(self, out: &mut Vec<FromEngine>) {
        let Self { call, tokens, text } = self;
        let prompt_tokens = u32::try_from(tokens.len()).unwrap_or(u32::MAX);
        out.push(FromEngine::PromptTaken { call, prompt_tokens });
        let mut left = tokens;
        loop {
            let more = left.split_off(left.len().min(AT_ONCE));
            let tokens = std::mem::replace(&mut left, more);
            let is_last = left.is_empty();
            let text = if is_last { text.clone() } else { String::new() };
            out.push(FromEngine::Tokenized { call, is_last, tokens, text });
            if is_last {
                return;
            }
        }
    }
}
