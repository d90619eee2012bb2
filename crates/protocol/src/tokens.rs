//! Texts as tokens and back.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::chat::ChatMessage;
use crate::tools::AnswerForm;

/// `POST /v1/tokenize`: the tokens of a text or of a conversation.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct TokenizeRequest {
    /// Model or variant.
    pub model: String,
    /// A text.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub input: Option<String>,
    /// Whether control tokens written in the text act as such, as in a prompt of `/v1/completions`; true by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub control_tokens: Option<bool>,
    /// A conversation instead of a text: its prompt, rendered with the model's template.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub messages: Option<Vec<ChatMessage>>,
    /// Also return the text of each token.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub texts: Option<bool>,
    /// Tools and template arguments of the conversation.
    #[serde(flatten)]
    pub form: AnswerForm,
}

/// Tokens of a text or conversation.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct TokenizeResponse {
    /// The variant whose tokens these are.
    pub model: String,
    /// Number of tokens.
    pub count: u32,
    /// Their ids.
    pub tokens: Vec<u32>,
    /// Their texts, if requested. Characters that span tokens are replaced.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub texts: Option<Vec<String>>,
}

/// `POST /v1/detokenize`: the text of tokens.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct DetokenizeRequest {
    /// Model or variant.
    pub model: String,
    /// Ids of tokens.
    pub tokens: Vec<u32>,
}

/// The text of tokens.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct DetokenizeResponse {
    /// The variant whose tokens they are.
    pub model: String,
    /// The text, with that of control tokens. Bytes that are no text are replaced.
    pub text: String,
}
