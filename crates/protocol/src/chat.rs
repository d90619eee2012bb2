//! The supported part of the chat-completions protocol.
//!
//! Our own figures are in one extra field, `deft`.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use utoipa::ToSchema;

use crate::engine::{TokenScore, TokenText, WhenContextFull};
use crate::tools::{AnswerForm, ToolCall, ToolCallPiece};

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

/// Why an answer ended, in the protocol's words.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum FinishReason {
    /// The model ended it, or a stop text did.
    Stop,
    /// A limit of tokens ended it.
    Length,
    /// The model called tools.
    ToolCalls,
}

/// Token counts.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Usage {
    /// Tokens of the prompt.
    pub prompt_tokens: u32,
    /// Tokens of the answer.
    pub completion_tokens: u32,
    /// Both.
    pub total_tokens: u32,
    /// More about the prompt's.
    #[serde(default)]
    pub prompt_tokens_details: PromptTokens,
    /// More about the answer's.
    #[serde(default)]
    pub completion_tokens_details: CompletionTokens,
}

/// Tokens of an answer in more detail.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct CompletionTokens {
    /// Tokens of the reasoning.
    pub reasoning_tokens: u32,
}

/// Tokens of a prompt in more detail.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PromptTokens {
    /// Known already from a call before, and not computed again.
    pub cached_tokens: u32,
}

/// What exactly ended an answer.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum EndedBy {
    /// A token that ends answers.
    EndToken,
    /// A stop text.
    StopText,
    /// The limit of tokens of the answer.
    TokenLimit,
    /// The instance's context is full.
    ContextFull,
    /// The answer repeated itself without end.
    Repetition,
}

impl EndedBy {
    /// The protocol's word for it.
    #[must_use]
    pub const fn finish_reason(self) -> FinishReason {
        match self {
            Self::EndToken | Self::StopText => FinishReason::Stop,
            Self::TokenLimit | Self::ContextFull | Self::Repetition => FinishReason::Length,
        }
    }
}

/// Our figures beside an answer. Times in seconds, rates in tokens per second.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Figures {
    /// Reason the answer ended.
    pub ended_by: EndedBy,
    /// Details of the reason.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub detail: Option<String>,
    /// Prompt tokens that were in the prefix cache.
    #[serde(default, alias = "reused_tokens")]
    pub cached_tokens: u32,
    /// Oldest messages that were left out so that the rest fits the context.
    #[serde(default, alias = "dropped_messages")]
    pub left_out_messages: u32,
    /// Tokens of the reasoning.
    #[serde(default)]
    pub reasoning_tokens: u32,
    /// Seconds of reasoning.
    #[serde(default)]
    pub reasoning_seconds: f64,
    /// Seconds from arrival to the first text.
    pub first_token_seconds: f64,
    /// Seconds of waiting for the model to load; 0 if it was loaded.
    pub load_seconds: f64,
    /// Seconds of waiting for a lane.
    #[serde(default)]
    pub queue_seconds: f64,
    /// Seconds of prompt processing.
    pub prompt_seconds: f64,
    /// Computed prompt tokens per second.
    pub prompt_rate: f64,
    /// Seconds of generation after the first token.
    pub answer_seconds: f64,
    /// Answer tokens per second after the first; 0 for one token.
    pub answer_rate: f64,
    /// Seconds from arrival to end.
    pub total_seconds: f64,
    /// Context length of the lane, in tokens.
    pub context: u32,
}

/// A whole chat answer.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ChatResponse {
    /// Id of the call.
    pub id: String,
    /// `chat.completion`.
    pub object: String,
    /// Unix time.
    pub created: i64,
    /// The variant that answered.
    pub model: String,
    /// The answers.
    pub choices: Vec<ChatChoice>,
    /// Token counts of all answers.
    pub usage: Usage,
}

/// One answer.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ChatChoice {
    /// Which answer.
    pub index: u32,
    /// The message.
    pub message: AnswerMessage,
    /// Its tokens, if requested.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub logprobs: Option<ChatLogprobs>,
    /// Why it ended.
    pub finish_reason: FinishReason,
    /// Our figures.
    pub deft: Figures,
}

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

/// The message of an answer.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct AnswerMessage {
    /// `assistant`.
    pub role: String,
    /// Its text; none if it consists of tool calls.
    pub content: Option<String>,
    /// The model's reasoning before it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reasoning_content: Option<String>,
    /// Its tool calls.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tool_calls: Option<Vec<ToolCall>>,
}

/// One piece of a streamed chat answer.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ChatChunk {
    /// Id of the call.
    pub id: String,
    /// `chat.completion.chunk`.
    pub object: String,
    /// Unix time.
    pub created: i64,
    /// The variant that answers.
    pub model: String,
    /// One piece, or none in the chunk with the counts.
    pub choices: Vec<ChunkChoice>,
    /// Token counts, in the last chunk, if requested.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub usage: Option<Usage>,
}

/// One piece.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ChunkChoice {
    /// Which answer.
    pub index: u32,
    /// The new part.
    pub delta: Delta,
    /// Its tokens, if requested.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub logprobs: Option<ChatLogprobs>,
    /// Why the answer ended, in its last piece.
    pub finish_reason: Option<FinishReason>,
    /// Our figures, in its last piece.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub deft: Option<Figures>,
}

/// The new part of a chunk.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Delta {
    /// `assistant`, in the first piece.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub role: Option<String>,
    /// Text.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub content: Option<String>,
    /// Reasoning.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reasoning_content: Option<String>,
    /// Pieces of tool calls.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tool_calls: Option<Vec<ToolCallPiece>>,
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
