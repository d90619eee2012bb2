//! Chat answers, whole and in pieces, with the figures beside them.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::ChatLogprobs;
use crate::tools::{ToolCall, ToolCallPiece};

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
    /// Details of the reason, such as the stop text.
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
    /// Seconds in which the prompt was rendered and converted to tokens.
    #[serde(default)]
    pub prepare_seconds: f64,
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
    /// Whether the operator traces calls of this model: prompt and answer are kept for a limited time.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub traced: bool,
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
