//! The supported part of the messages protocol: conversations whose messages are lists of blocks.

use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use utoipa::ToSchema;

use crate::chat::{CallPriority, Figures};
use crate::engine::WhenContextFull;

/// The conversation, as `POST /v1/messages` and `POST /v1/messages/count_tokens` have it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct MessagesHead {
    /// Model or variant.
    pub model: String,
    /// The messages of user and assistant.
    pub messages: Vec<BlockMessage>,
    /// The system message: a text or blocks of type `text`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub system: Option<Blocks>,
    /// Tools that the model may call.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<Vec<Object>>)]
    pub tools: Option<Vec<Map<String, Value>>>,
    /// Which tools are called; `auto` by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tool_choice: Option<MessagesToolChoice>,
    /// Whether the model may think before it answers; `disabled` by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub thinking: Option<Thinking>,
    /// The form of the answer.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub output_config: Option<OutputConfig>,
}

/// How to answer.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct MessagesOptions {
    /// Most tokens of the answer.
    pub max_tokens: u32,
    /// Texts that end the answer; they are not part of it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stop_sequences: Option<Vec<String>>,
    /// Whether to stream the answer.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stream: Option<bool>,
    /// 0 always takes the most likely token.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub temperature: Option<f32>,
    /// Sample from the most likely tokens that together reach this probability.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub top_p: Option<f32>,
    /// Sample from this many of the most likely tokens.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub top_k: Option<u32>,
    /// Who calls.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub metadata: Option<MessagesMetadata>,
    /// Seed, for the same samples each time: an extension of the protocol.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub seed: Option<u64>,
    /// What to do with a conversation that is longer than the context: an extension of the protocol.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub when_context_full: Option<WhenContextFull>,
    /// Longest time in seconds to wait for the model to load and for a lane: an extension of the protocol.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub wait_seconds: Option<f64>,
    /// Queue priority: an extension of the protocol.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub priority: Option<CallPriority>,
}

/// `POST /v1/messages`.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct MessagesRequest {
    /// What to answer.
    #[serde(flatten)]
    pub head: MessagesHead,
    /// How to answer.
    #[serde(flatten)]
    pub options: MessagesOptions,
}

/// A message.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct BlockMessage {
    /// Who wrote it.
    pub role: BlockRole,
    /// A text or blocks: text, tool calls (`tool_use`), their results (`tool_result`), and reasoning (`thinking`).
    pub content: Blocks,
}

/// Who wrote a message.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum BlockRole {
    /// The user, or a tool.
    User,
    /// The model.
    Assistant,
}

/// A text or blocks.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(untagged, expecting = "expected a text or a list of blocks")]
pub enum Blocks {
    /// Text.
    Text(String),
    /// Blocks.
    #[schema(value_type = Vec<Object>)]
    Blocks(Vec<Map<String, Value>>),
}

/// Which tool calls an answer has.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct MessagesToolChoice {
    /// Who decides.
    #[serde(rename = "type")]
    pub kind: MessagesToolMode,
    /// The tool, for `tool`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// Whether an answer has at most one call.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub disable_parallel_tool_use: Option<bool>,
}

/// Who decides about tool calls.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum MessagesToolMode {
    /// The model.
    Auto,
    /// At least one call.
    Any,
    /// A call of the named tool.
    Tool,
    /// No call.
    None,
}

/// Whether the model may think before it answers.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "type", rename_all = "snake_case")]
pub enum Thinking {
    /// It may.
    Enabled {
        /// Most tokens of it.
        budget_tokens: u32,
    },
    /// It may, as long as it wants.
    Adaptive,
    /// It does not.
    Disabled,
}

/// The form of an answer.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct OutputConfig {
    /// JSON that matches a schema.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub format: Option<OutputFormat>,
    /// How much the model thinks, in the words of its chat template; refused if the template does not read it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub effort: Option<String>,
}

/// The form of an answer's text.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "type", rename_all = "snake_case")]
pub enum OutputFormat {
    /// JSON that matches a schema.
    JsonSchema {
        /// The schema.
        #[schema(value_type = Object)]
        schema: Value,
    },
}

/// Who calls.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct MessagesMetadata {
    /// The caller, for records and the queue.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub user_id: Option<String>,
}

/// An answer.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct MessagesResponse {
    /// Its id.
    pub id: String,
    /// `message`.
    #[serde(rename = "type")]
    pub kind: String,
    /// `assistant`.
    pub role: String,
    /// The variant that answers.
    pub model: String,
    /// The blocks of the answer.
    pub content: Vec<OutputBlock>,
    /// Why it ended.
    pub stop_reason: Option<StopReason>,
    /// The stop text that ended it.
    pub stop_sequence: Option<String>,
    /// Token counts.
    pub usage: MessagesUsage,
    /// Our figures, at the end.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub deft: Option<Figures>,
}

/// A block of an answer.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "type", rename_all = "snake_case")]
pub enum OutputBlock {
    /// The model's reasoning.
    Thinking {
        /// The text.
        thinking: String,
        /// Empty.
        signature: String,
    },
    /// Text.
    Text {
        /// The text.
        text: String,
    },
    /// A tool call.
    ToolUse {
        /// The id that the result repeats.
        id: String,
        /// The name of the tool.
        name: String,
        /// The arguments.
        #[schema(value_type = Object)]
        input: Map<String, Value>,
    },
}

/// Why an answer ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum StopReason {
    /// The model ended it.
    EndTurn,
    /// A limit of tokens ended it.
    MaxTokens,
    /// A stop text ended it.
    StopSequence,
    /// The model called tools.
    ToolUse,
}

/// Token counts.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct MessagesUsage {
    /// Computed tokens of the prompt.
    pub input_tokens: u32,
    /// Tokens of the prompt that were computed by an earlier call.
    pub cache_read_input_tokens: u32,
    /// Always 0: every prompt is cached, without a charge.
    pub cache_creation_input_tokens: u32,
    /// Tokens of the answer.
    pub output_tokens: u32,
}

/// Number of tokens of a conversation.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct TokenCount {
    /// Tokens of the prompt.
    pub input_tokens: u32,
}

/// An error in the protocol's shape.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct MessagesError {
    /// `error`.
    #[serde(rename = "type")]
    pub kind: String,
    /// The error.
    pub error: MessagesErrorDetail,
}

/// The error itself.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct MessagesErrorDetail {
    /// Its kind.
    #[serde(rename = "type")]
    pub kind: String,
    /// What happened and what to do.
    pub message: String,
    /// Our stable code.
    pub code: String,
    /// The field at fault.
    #[serde(default)]
    pub param: Option<String>,
}
