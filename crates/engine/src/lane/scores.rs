//! Log probabilities of tokens from the model's logits, before bias, penalties and temperature.

use deft_protocol::engine::{TokenScore, TokenText};

use crate::sampling::likeliest_of;
use crate::tokenizer::Tokenizer;

/// The readable text of a token; a control token has its stored text.
pub(super) fn token_text(tokenizer: &Tokenizer, id: u32) -> TokenText {
    let mut bytes = tokenizer.bytes_of(id);
    if bytes.is_empty()
        && let Some((stored, _)) = tokenizer.vocabulary().get(id)
    {
        bytes = stored.as_bytes().to_vec();
    }
    TokenText { id, text: String::from_utf8_lossy(&bytes).into_owned(), bytes }
}

/// The score of a token and of `count` alternatives, summed in double precision.
#[expect(clippy::cast_possible_truncation, reason = "computed in f64, returned as f32")]
pub(super) fn score(
    tokenizer: &Tokenizer,
    logits: &[f32],
    id: u32,
    alternatives: usize,
) -> TokenScore {
    let largest = logits.iter().copied().fold(f32::NEG_INFINITY, f32::max);
    let total: f64 = logits.iter().map(|logit| f64::from(logit - largest).exp()).sum();
    let logprob = |id: u32| (f64::from(logits[id as usize] - largest) - total.ln()) as f32;
    TokenScore {
        token: token_text(tokenizer, id),
        logprob: Some(logprob(id)),
        alternatives: likeliest_of(logits, alternatives)
            .map(|(id, _)| (token_text(tokenizer, id), logprob(id)))
            .collect(),
    }
}

/// The score of the first token of a prompt, which has no probability.
pub(super) fn unscored(tokenizer: &Tokenizer, id: u32) -> TokenScore {
    TokenScore { token: token_text(tokenizer, id), logprob: None, alternatives: Vec::new() }
}

/// Holds back the scores of tokens as long as their text is held back.
#[derive(Debug, Default)]
pub(super) struct HeldScores {
    /// Scores, each with the offset of its token in the text.
    held: std::collections::VecDeque<(usize, TokenScore)>,
    /// Bytes of text of all tokens, and of the sent text.
    brought: usize,
    sent: usize,
}

impl HeldScores {
    /// Adds a token with its number of bytes of text.
    pub(super) fn push(&mut self, score: Option<TokenScore>, bytes: usize) {
        if let Some(score) = score {
            self.held.push_back((self.brought, score));
        }
        self.brought += bytes;
    }

    /// The scores of tokens whose text begins in the text that is sent now.
    pub(super) fn send(&mut self, bytes: usize) -> Vec<TokenScore> {
        self.sent += bytes;
        let mut sent = Vec::new();
        while let Some((_, score)) = self.held.pop_front_if(|(start, _)| *start < self.sent) {
            sent.push(score);
        }
        sent
    }

    /// The remaining scores at the end, when all text was sent.
    pub(super) fn rest(&mut self) -> Vec<TokenScore> {
        self.held.drain(..).map(|(_, score)| score).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn named(id: u32) -> TokenScore {
        let token = TokenText { id, text: String::new(), bytes: Vec::new() };
        TokenScore { token, logprob: Some(0.0), alternatives: Vec::new() }
    }

    #[test]
    fn scores_wait_for_their_text() {
        let mut held = HeldScores::default();
        let ids = |scores: Vec<TokenScore>| -> Vec<u32> {
            scores.into_iter().map(|score| score.token.id).collect()
        };
        held.push(Some(named(1)), 4);
        held.push(Some(named(2)), 3);
        assert_eq!(ids(held.send(4)), [1]);
        held.push(Some(named(3)), 0);
        assert_eq!(ids(held.send(1)), [2]);
        assert_eq!(ids(held.send(2)), [] as [u32; 0]);
        assert_eq!(ids(held.rest()), [3]);
    }
}
