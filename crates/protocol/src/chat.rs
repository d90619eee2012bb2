//! The supported part of the chat-completions protocol.
//!
//! Our own figures are in one extra field, `deft`.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use utoipa::ToSchema;

use crate::engine::WhenContextFull;
use crate::tools::AnswerForm;

mod answer;
mod logprobs;

pub use answer::{
    AnswerMessage, ChatChoice, ChatChunk, ChatResponse, ChunkChoice, CompletionTokens, Delta,
    EndedBy, Figures, FinishReason, PromptTokens, Usage,
};
pub use logprobs::{ChatLogprob, ChatLogprobs, LogprobToken};

/// Options of a single answer that chat and raw continuation share.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct AnswerOptions {
    /// 0 always takes the most likely token.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub temperature: Option<f32>,
    /// Sample from the most likely tokens that together reach this probability.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub top_p: Option<f32>,
    /// Sample from this many of the most likely tokens; 0 or -1 means all.
    #[serde(
        default,
        deserialize_with = "crate::usual::limit",
        skip_serializing_if = "Option::is_none"
    )]
    #[schema(value_type = Option<i64>, minimum = -1)]
    pub top_k: Option<u32>,
    /// Sample from tokens with at least this share of the highest probability.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub min_p: Option<f32>,
    /// Makes tokens of prompt and answer less likely to come again: positive logits are divided by
    /// this, negative ones multiplied; 1 changes nothing.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub repetition_penalty: Option<f32>,
    /// Taken from the logit of every token that the answer has already.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub presence_penalty: Option<f32>,
    /// Taken from a token's logit for each time the answer has it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub frequency_penalty: Option<f32>,
    /// Added to the logits of these tokens, by their ids; from -100 to 100.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub logit_bias: Option<BTreeMap<u32, f32>>,
    /// Seed, for the same samples each time.
    #[serde(
        default,
        deserialize_with = "crate::usual::seed",
        skip_serializing_if = "Option::is_none"
    )]
    #[schema(value_type = Option<i64>)]
    pub seed: Option<u64>,
    /// Most tokens of the answer; -1 means as many as fit.
    #[serde(
        default,
        deserialize_with = "crate::usual::limit",
        skip_serializing_if = "Option::is_none"
    )]
    #[schema(value_type = Option<i64>, minimum = -1)]
    pub max_tokens: Option<u32>,
    /// The protocol's newer name of `max_tokens`.
    #[serde(
        default,
        deserialize_with = "crate::usual::limit",
        skip_serializing_if = "Option::is_none"
    )]
    #[schema(value_type = Option<i64>, minimum = -1)]
    pub max_completion_tokens: Option<u32>,
    /// Texts that end the answer; they are not part of it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stop: Option<StopTexts>,
    /// Whether to stream the answer.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stream: Option<bool>,
    /// Options of the stream.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stream_options: Option<StreamOptions>,
    /// Number of answers.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub n: Option<u32>,
    /// What to do with a conversation that is longer than the context: an extension of the protocol.
    #[serde(default, alias = "context_overflow", skip_serializing_if = "Option::is_none")]
    pub when_context_full: Option<WhenContextFull>,
    /// Whether to end an answer that repeats itself endlessly; true by default: an extension of the protocol.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub repetition_guard: Option<bool>,
    /// Whether to unload the model after this answer, unless other calls use it or it is pinned: an extension of the
    /// protocol.
    #[serde(default, alias = "release", skip_serializing_if = "Option::is_none")]
    pub unload_after: Option<bool>,
    /// Longest time in seconds to wait for the model to load and for a lane, if shorter than the service's limit: an
    /// extension of the protocol.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub wait_seconds: Option<f64>,
    /// Queue priority: an extension of the protocol.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub priority: Option<CallPriority>,
    /// The caller; callers take turns in the queue. The program and its address by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub user: Option<String>,
}

/// Queue priority of a call.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum CallPriority {
    /// Before all other calls.
    Urgent,
    /// The default.
    #[default]
    Usual,
    /// When no other call waits, or after a long wait.
    Background,
}

/// One stop text or several.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(untagged, expecting = "expected a text or a list of texts")]
pub enum StopTexts {
    /// One.
    One(String),
    /// Several.
    Many(Vec<String>),
}

impl StopTexts {
    /// The texts as a list.
    #[must_use]
    pub fn into_list(self) -> Vec<String> {
        match self {
            Self::One(text) => vec![text],
            Self::Many(texts) => texts,
        }
    }
}

/// Options of the stream.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct StreamOptions {
    /// A last chunk with the token counts.
    #[serde(default, deserialize_with = "crate::usual::yes")]
    #[schema(value_type = Option<bool>)]
    pub include_usage: bool,
}

/// One message of a conversation.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ChatMessage {
    /// `system`, `user`, `assistant` or `tool`.
    pub role: String,
    /// Its text, or a list of parts.
    #[serde(default)]
    #[schema(value_type = Option<Object>)]
    pub content: Option<Content>,
    /// Whatever else the template may want, such as `tool_calls`.
    #[serde(flatten)]
    #[schema(ignore)]
    pub rest: Map<String, Value>,
}

impl ChatMessage {
    /// A plain message.
    #[must_use]
    pub fn text(role: &str, text: impl Into<String>) -> Self {
        Self { role: role.to_owned(), content: Some(Content::Text(text.into())), rest: Map::new() }
    }
}

/// Text of a message, whole or in parts.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(untagged, expecting = "`content` must be a text or a list of parts")]
pub enum Content {
    /// Text.
    Text(String),
    /// Parts; only those of type `text` are understood so far.
    #[schema(value_type = Vec<Object>)]
    Parts(Vec<Map<String, Value>>),
}

/// What to answer. Read apart from the options, so that an error can name its field.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ChatHead {
    /// Model or variant.
    pub model: String,
    /// The conversation so far.
    pub messages: Vec<ChatMessage>,
    /// Tools, the form of the answer, and reasoning.
    #[serde(flatten)]
    pub form: AnswerForm,
    /// Whether to return the probability of each token of the answer.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub logprobs: Option<bool>,
    /// Number of alternatives for each token.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub top_logprobs: Option<u32>,
}

impl ChatHead {
    /// A conversation for a model, nothing more.
    #[must_use]
    pub fn new(model: impl Into<String>, messages: Vec<ChatMessage>) -> Self {
        let form = AnswerForm::default();
        Self { model: model.into(), messages, form, logprobs: None, top_logprobs: None }
    }
}

/// `POST /v1/chat/completions`.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct ChatRequest {
    /// What to answer.
    #[serde(flatten)]
    pub head: ChatHead,
    /// How to answer.
    #[serde(flatten)]
    pub options: AnswerOptions,
}

/// `GET /v1/models`.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ModelList {
    /// `list`.
    pub object: String,
    /// The models.
    pub data: Vec<ModelEntry>,
}

/// One model of the list.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ModelEntry {
    /// Name for requests.
    pub id: String,
    /// `model`.
    pub object: String,
    /// Unix time of its registration.
    pub created: i64,
    /// `deft`.
    pub owned_by: String,
    /// Whether an instance of it is ready.
    pub loaded: bool,
    /// Longest context of a call in tokens: of a loaded instance, otherwise the longest that the model can have.
    pub context: u32,
    /// Kinds of requests it serves: `chat`, `completion`, `embeddings`, `tool calls`, `fill-in-the-middle`.
    pub serves: Vec<String>,
}

/// An error in the protocol's shape.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ErrorBody {
    /// The error.
    pub error: ErrorDetail,
}

/// The error itself.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ErrorDetail {
    /// What happened and what to do.
    pub message: String,
    /// `invalid_request_error` or `server_error`.
    #[serde(rename = "type")]
    pub error_type: String,
    /// Our stable code.
    pub code: String,
    /// The field at fault.
    #[serde(default)]
    pub param: Option<String>,
}

#[cfg(test)]
mod tests;
