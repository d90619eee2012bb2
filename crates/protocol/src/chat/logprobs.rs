//! Tokens of an answer with their probabilities.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::engine::{TokenScore, TokenText};

/// The tokens of an answer with their probabilities.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ChatLogprobs {
    /// Token by token.
    pub content: Vec<ChatLogprob>,
}

/// One token with its probability and alternatives.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ChatLogprob {
    /// The token.
    #[serde(flatten)]
    pub token: LogprobToken,
    /// The most likely tokens at its place.
    pub top_logprobs: Vec<LogprobToken>,
}

/// A token with its probability.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct LogprobToken {
    /// Its text.
    pub token: String,
    /// Natural logarithm of its probability, by the model's own logits.
    pub logprob: f32,
    /// Its bytes.
    pub bytes: Vec<u8>,
}

impl LogprobToken {
    fn new(token: TokenText, logprob: f32) -> Self {
        Self { token: token.text, logprob, bytes: token.bytes }
    }
}

impl ChatLogprobs {
    /// Scores in the protocol's shape; none where there are none.
    #[must_use]
    pub fn of(scores: Vec<TokenScore>) -> Option<Self> {
        let content: Vec<ChatLogprob> = scores
            .into_iter()
            .map(|score| ChatLogprob {
                token: LogprobToken::new(score.token, score.logprob.unwrap_or(0.0)),
                top_logprobs: score
                    .alternatives
                    .into_iter()
                    .map(|(token, logprob)| LogprobToken::new(token, logprob))
                    .collect(),
            })
            .collect();
        (!content.is_empty()).then_some(Self { content })
    }
}
