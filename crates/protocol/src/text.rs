//! Raw continuation of a text, without a template.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::chat::{AnswerOptions, Figures, FinishReason, Usage};
use crate::engine::{Prompt, TokenScore};

/// What to continue.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct TextHead {
    /// Model or variant.
    pub model: String,
    /// The text to continue, or several.
    pub prompt: TextPrompt,
    /// Text after the answer: the model fills in what is between the prompt and this. Only models with tokens for that can.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub suffix: Option<String>,
    /// Begin the answer with the prompt.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub echo: Option<bool>,
    /// Whether control tokens written in the prompt act as such, as they do unless this says no; our own
    /// field.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub control_tokens: Option<bool>,
    /// Return the probability of each token with this many alternatives; with `echo` those of the prompt too.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub logprobs: Option<u32>,
}

/// A text to continue, or the tokens of one; or a list of either, of which each is continued by itself.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(untagged, expecting = "expected a text, a list of token ids, or a list of either")]
pub enum TextPrompt {
    /// Text.
    Text(String),
    /// Token ids.
    Tokens(Vec<u32>),
    /// Several texts.
    Texts(Vec<String>),
    /// Token ids of several texts.
    TokenLists(Vec<Vec<u32>>),
}

impl TextPrompt {
    /// As the engine gets them; control tokens act where that is said.
    #[must_use]
    pub fn into_prompts(self, control_tokens: bool) -> Vec<Prompt> {
        let text = if control_tokens { Prompt::Raw } else { Prompt::Text };
        match self {
            Self::Text(one) => vec![text(one)],
            Self::Tokens(ids) => vec![Prompt::Tokens(ids)],
            Self::Texts(texts) => texts.into_iter().map(text).collect(),
            Self::TokenLists(lists) => lists.into_iter().map(Prompt::Tokens).collect(),
        }
    }
}

/// `POST /v1/completions`: continues a text without a template.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct TextRequest {
    /// What to continue.
    #[serde(flatten)]
    pub head: TextHead,
    /// How to answer.
    #[serde(flatten)]
    pub options: AnswerOptions,
}

/// A whole continuation, or one piece of a streamed one.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct TextResponse {
    /// Id of the call.
    pub id: String,
    /// `text_completion`.
    pub object: String,
    /// Unix time.
    pub created: i64,
    /// The variant that answered.
    pub model: String,
    /// The continuations, or none in the chunk with the counts.
    pub choices: Vec<TextChoice>,
    /// Token counts of all.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub usage: Option<Usage>,
}

/// One continuation.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct TextChoice {
    /// Which continuation.
    pub index: u32,
    /// The text.
    pub text: String,
    /// Its tokens, if requested.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub logprobs: Option<TextLogprobs>,
    /// Why it ended.
    pub finish_reason: Option<FinishReason>,
    /// Our figures, with its end.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub deft: Option<Figures>,
}

/// The tokens of a continuation with their probabilities, in four lists of one length.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct TextLogprobs {
    /// Texts of the tokens.
    pub tokens: Vec<String>,
    /// Natural logarithms of their probabilities; none for the first token of a prompt.
    pub token_logprobs: Vec<Option<f32>>,
    /// The likeliest tokens in the place of each.
    pub top_logprobs: Vec<Option<BTreeMap<String, f32>>>,
    /// Where each begins in the text, in characters.
    pub text_offset: Vec<u32>,
}

impl TextLogprobs {
    /// Scores in the protocol's shape, the first at `offset` characters of the text; none where
    /// there are none. `offset` continues after the last.
    #[must_use]
    pub fn of(scores: Vec<TokenScore>, offset: &mut u32) -> Option<Self> {
        if scores.is_empty() {
            return None;
        }
        let mut lists = Self::default();
        for score in scores {
            lists.text_offset.push(*offset);
            let characters = score.token.text.chars().count();
            *offset += u32::try_from(characters).unwrap_or(u32::MAX);
            lists.tokens.push(score.token.text);
            lists.token_logprobs.push(score.logprob);
            let likeliest = score.alternatives.into_iter();
            let likeliest = likeliest.map(|(token, logprob)| (token.text, logprob)).collect();
            lists.top_logprobs.push(score.logprob.map(|_| likeliest));
        }
        Some(lists)
    }
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;
    use crate::engine::TokenText;

    fn score(text: &str, logprob: Option<f32>) -> TokenScore {
        let token = TokenText { id: 1, text: text.to_owned(), bytes: Vec::new() };
        let alternatives = logprob.map(|logprob| (token.clone(), logprob)).into_iter().collect();
        TokenScore { token, logprob, alternatives }
    }

    #[test]
    fn a_prompt_is_a_text_or_token_ids() {
        let prompt = |value| serde_json::from_value::<TextPrompt>(value);
        let sow = || prompt(json!("Sow")).unwrap();
        assert_eq!(sow().into_prompts(true), [Prompt::Raw("Sow".to_owned())]);
        assert_eq!(sow().into_prompts(false), [Prompt::Text("Sow".to_owned())]);
        let several = prompt(json!(["Sow", "Row"])).unwrap().into_prompts(true);
        assert_eq!(several, ["Sow", "Row"].map(|text| Prompt::Raw(text.to_owned())));
        let lists = prompt(json!([[1, 5], [7]])).unwrap().into_prompts(true);
        assert_eq!(lists, [Prompt::Tokens(vec![1, 5]), Prompt::Tokens(vec![7])]);
        let ids = prompt(json!([1, 5])).unwrap().into_prompts(true);
        assert_eq!(ids, [Prompt::Tokens(vec![1, 5])]);
        for wrong in [json!(["Sow", 5]), json!(5), json!({"text": "Sow"}), json!([-1])] {
            let error = prompt(wrong).unwrap_err().to_string();
            assert_eq!(error, "expected a text, a list of token ids, or a list of either");
        }
    }

    #[test]
    fn offsets_count_characters_and_go_on_from_piece_to_piece() {
        let mut offset = 0;
        let first =
            TextLogprobs::of(vec![score("Zaż", None), score(" bean", Some(-1.0))], &mut offset);
        let first = first.unwrap();
        assert_eq!((first.text_offset, offset), (vec![0, 3], 8));
        assert_eq!(first.token_logprobs, [None, Some(-1.0)]);
        assert_eq!(first.top_logprobs[0], None);
        assert_eq!(first.top_logprobs[1], Some([(" bean".to_owned(), -1.0)].into()));
        let second = TextLogprobs::of(vec![score("s", Some(-0.1))], &mut offset).unwrap();
        assert_eq!((second.text_offset, offset), (vec![8], 9));
        assert_eq!(TextLogprobs::of(Vec::new(), &mut offset), None);
    }
}
