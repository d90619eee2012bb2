//! The vocabulary in the form in which the library for constraints reads it.

use std::sync::Arc;

use llguidance::ParserFactory;
use llguidance::api::ParserLimits;
use llguidance::toktrie::{
    InferenceCapabilities, TokEnv, TokRxInfo, TokTrie, TokenId, TokenizerEnv,
};

use crate::tokenizer::{TokenKind, Tokenizer};

/// Limits of a grammar. Fuel and items bound the time of a mask to some tens of milliseconds, states the memory of a
/// grammar to a few MiB.
const LIMITS: ParserLimits = ParserLimits {
    max_items_in_row: 2000,
    initial_lexer_fuel: 1_000_000,
    step_lexer_fuel: 200_000,
    step_max_items: 50_000,
    max_lexer_states: 4_000,
    max_grammar_size: 200_000,
    precompute_large_lexemes: true,
    verbose_errors: false,
};

/// All tokens of a model by their bytes.
struct Tokens {
    trie: TokTrie,
}

impl TokenizerEnv for Tokens {
    fn tok_trie(&self) -> &TokTrie {
        &self.trie
    }

    fn tokenize_bytes(&self, bytes: &[u8]) -> Vec<TokenId> {
        self.trie.greedy_tokenize(bytes)
    }

    // The model chooses among all tokens that match, as it was trained to.
    fn tokenize_is_canonical(&self) -> bool {
        false
    }
}

/// The bytes of each token. Control tokens begin with a byte that no text has.
fn words(tokenizer: &Tokenizer) -> Vec<Vec<u8>> {
    let vocabulary = tokenizer.vocabulary();
    let word = |(id, text, kind): (u32, &str, TokenKind)| match kind {
        TokenKind::Control | TokenKind::Unknown => {
            [&[TokTrie::SPECIAL_TOKEN_MARKER], text.as_bytes()].concat()
        }
        TokenKind::Unused => Vec::new(),
        _ => tokenizer.bytes_of(id),
    };
    vocabulary.iter().map(word).collect()
}

/// What compiles grammars for a tokenizer.
pub(super) fn factory(tokenizer: &Tokenizer) -> Result<ParserFactory, String> {
    let vocabulary = tokenizer.vocabulary();
    let ends: Vec<u32> = vocabulary.ends().collect();
    let Some(&end) = ends.first() else {
        return Err("the model has no token that ends an answer".to_owned());
    };
    let info = TokRxInfo {
        vocab_size: u32::try_from(vocabulary.len()).unwrap_or(u32::MAX),
        tok_eos: vocabulary.end().unwrap_or(end),
        tok_bos: vocabulary.begin(),
        tok_pad: None,
        tok_unk: vocabulary.unknown(),
        tok_end_of_turn: None,
    };
    let trie = TokTrie::from(&info, &words(tokenizer)).with_eos_tokens(&ends);
    let environment: TokEnv = Arc::new(Tokens { trie });
    // Without precomputed slices of the vocabulary: they take as much memory again, and masks were not faster with them.
    let factory = ParserFactory::new(&environment, InferenceCapabilities::default(), &[]);
    let mut factory = factory.map_err(|error| error.to_string())?;
    *factory.limits_mut() = LIMITS;
    factory.quiet();
    Ok(factory)
}
