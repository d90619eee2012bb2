//! The supported part of the responses protocol: answers that are lists of items.

use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use utoipa::ToSchema;

use crate::chat::{AnswerOptions, Figures};
use crate::tools::{FunctionKind, MustMatch, ToolMode};

/// What to answer.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ResponseHead {
    /// Model or variant.
    pub model: String,
    /// A question, or the items of a conversation: messages, tool calls, their results, and reasoning.
    pub input: ResponseInput,
    /// System message of this answer; a conversation that is continued does not keep it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub instructions: Option<String>,
    /// Id of a kept answer whose conversation is continued.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub previous_response_id: Option<String>,
    /// Whether to keep the conversation for an hour, so that it can be continued; false by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub store: Option<bool>,
    /// Tools that the model may call; only those of type `function`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<Vec<Object>>)]
    pub tools: Option<Vec<Map<String, Value>>>,
    /// Which tools are called; `auto` by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tool_choice: Option<ResponseToolChoice>,
    /// Whether an answer may have several calls; true by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub parallel_tool_calls: Option<bool>,
    /// The form of the text.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub text: Option<ResponseText>,
    /// How much the model thinks.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reasoning: Option<ResponseReasoning>,
    /// A regular expression or grammar that the answer must match: an extension of the protocol.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub must_match: Option<MustMatch>,
    /// Most tokens of the reasoning: an extension of the protocol.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub max_reasoning_tokens: Option<u32>,
    /// Further arguments of the chat template; refused if the template does not read them: an extension of the protocol.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<Object>)]
    pub chat_template_kwargs: Option<Map<String, Value>>,
    /// Most tokens of the answer.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub max_output_tokens: Option<u32>,
    /// What the answer contains in addition.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub include: Option<Vec<Include>>,
    /// Number of alternatives for each token.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub top_logprobs: Option<u32>,
    /// What to do with a conversation that is longer than the context; `disabled` by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub truncation: Option<Truncation>,
    /// Only false: answers are not computed after their caller has left.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub background: Option<bool>,
    /// Returned as it is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<Object>)]
    pub metadata: Option<Map<String, Value>>,
}

/// `POST /v1/responses`.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct ResponseRequest {
    /// What to answer.
    #[serde(flatten)]
    pub head: ResponseHead,
    /// How to answer.
    #[serde(flatten)]
    pub options: AnswerOptions,
}

/// A question or a conversation.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(untagged, expecting = "expected a text or a list of items")]
pub enum ResponseInput {
    /// A question.
    Text(String),
    /// Items of a conversation.
    #[schema(value_type = Vec<Object>)]
    Items(Vec<Map<String, Value>>),
}

/// Which tool calls an answer has.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(untagged, expecting = "expected `auto`, `none`, `required` or a named function")]
pub enum ResponseToolChoice {
    /// `auto`, `none` or `required`.
    Mode(ToolMode),
    /// A call of this tool.
    Named(NamedFunction),
}

/// A function by its name.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct NamedFunction {
    /// `function`.
    #[serde(rename = "type")]
    pub kind: FunctionKind,
    /// The name.
    pub name: String,
}

/// The form of the text.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ResponseText {
    /// The form.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub format: Option<TextFormat>,
}

/// The form of an answer's text.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "type", rename_all = "snake_case")]
pub enum TextFormat {
    /// Any text.
    Text,
    /// A JSON object.
    JsonObject,
    /// JSON that matches a schema.
    JsonSchema(crate::tools::NamedSchema),
}

/// How much the model thinks.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ResponseReasoning {
    /// In the words of the chat template; refused if the template does not read it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub effort: Option<String>,
    /// Ignored: the reasoning is always returned whole.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub summary: Option<String>,
}

/// What an answer contains in addition.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub enum Include {
    /// Probabilities of the tokens.
    #[serde(rename = "message.output_text.logprobs")]
    Logprobs,
    /// Ignored: the reasoning is always returned as plain text.
    #[serde(rename = "reasoning.encrypted_content")]
    EncryptedReasoning,
}

/// What to do with a conversation that is longer than the context.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Truncation {
    /// Leave out the oldest messages.
    Auto,
    /// Refuse it.
    #[default]
    Disabled,
}

/// An answer.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ResponseObject {
    /// Its id.
    pub id: String,
    /// `response`.
    pub object: String,
    /// Unix time.
    pub created_at: i64,
    /// How far it is.
    pub status: ResponseStatus,
    /// Why it failed.
    pub error: Option<ResponseError>,
    /// Why it is incomplete.
    pub incomplete_details: Option<IncompleteDetails>,
    /// The variant that answers.
    pub model: String,
    /// The items of the answer.
    pub output: Vec<OutputItem>,
    /// Token counts, at the end.
    pub usage: Option<ResponseUsage>,
    /// From the request.
    pub instructions: Option<String>,
    /// From the request.
    pub previous_response_id: Option<String>,
    /// Whether the conversation is kept.
    pub store: bool,
    /// From the request.
    #[schema(value_type = Vec<Object>)]
    pub tools: Vec<Map<String, Value>>,
    /// From the request.
    pub tool_choice: ResponseToolChoice,
    /// From the request.
    pub parallel_tool_calls: bool,
    /// From the request.
    pub text: ResponseText,
    /// From the request.
    pub truncation: Truncation,
    /// From the request.
    pub temperature: Option<f32>,
    /// From the request.
    pub top_p: Option<f32>,
    /// From the request.
    pub max_output_tokens: Option<u32>,
    /// From the request.
    #[schema(value_type = Option<Object>)]
    pub metadata: Option<Map<String, Value>>,
    /// Our figures, at the end.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub deft: Option<Figures>,
}

/// How far an answer or an item of it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum ResponseStatus {
    /// It is being made.
    InProgress,
    /// It is complete.
    Completed,
    /// A limit ended it.
    Incomplete,
    /// It failed.
    Failed,
}

/// Why an answer failed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ResponseError {
    /// Our stable code.
    pub code: String,
    /// What happened and what to do.
    pub message: String,
}

/// Why an answer is incomplete.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct IncompleteDetails {
    /// `max_output_tokens`.
    pub reason: String,
}

/// An item of an answer.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "type", rename_all = "snake_case")]
pub enum OutputItem {
    /// The model's reasoning.
    Reasoning {
        /// Its id.
        id: String,
        /// How far it is.
        status: ResponseStatus,
        /// Empty.
        #[schema(value_type = Vec<Object>)]
        summary: Vec<Value>,
        /// The reasoning.
        content: Vec<OutputContent>,
    },
    /// Text.
    Message {
        /// Its id.
        id: String,
        /// How far it is.
        status: ResponseStatus,
        /// `assistant`.
        role: String,
        /// The text.
        content: Vec<OutputContent>,
    },
    /// A tool call.
    FunctionCall {
        /// Its id.
        id: String,
        /// How far it is.
        status: ResponseStatus,
        /// The id that the result repeats.
        call_id: String,
        /// The name of the tool.
        name: String,
        /// The arguments as JSON text.
        arguments: String,
    },
}

/// Text of an item.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "type", rename_all = "snake_case")]
pub enum OutputContent {
    /// Text of the answer.
    OutputText {
        /// The text.
        text: String,
        /// Empty.
        #[schema(value_type = Vec<Object>)]
        annotations: Vec<Value>,
        /// Its tokens, if requested.
        logprobs: Vec<crate::chat::ChatLogprob>,
    },
    /// Text of the reasoning.
    ReasoningText {
        /// The text.
        text: String,
    },
}

/// Token counts.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ResponseUsage {
    /// Tokens of the prompt.
    pub input_tokens: u32,
    /// More about the prompt's.
    pub input_tokens_details: crate::chat::PromptTokens,
    /// Tokens of the answer.
    pub output_tokens: u32,
    /// More about the answer's.
    pub output_tokens_details: crate::chat::CompletionTokens,
    /// Both.
    pub total_tokens: u32,
}

/// `GET /v1/responses/{id}/input_items`.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct InputItems {
    /// `list`.
    pub object: String,
    /// The items of the request.
    #[schema(value_type = Vec<Object>)]
    pub data: Vec<Map<String, Value>>,
    /// Always false: all items are here.
    pub has_more: bool,
}

/// A kept answer that is removed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ResponseDeleted {
    /// Its id.
    pub id: String,
    /// `response`.
    pub object: String,
    /// True.
    pub deleted: bool,
}
