//! The depot: its variants, facts from their files, and checks.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Facts read from a model file.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ModelFacts {
    /// Family, as in the file (`general.architecture`).
    pub family: String,
    /// Name of the model in the file.
    pub name: Option<String>,
    /// Number of values in all tensors.
    pub parameters: u64,
    /// Quantisation mix: tensor types with their shares, largest first.
    pub mix: Vec<MixShare>,
    /// Short name of the mix, as used in variant names (`q8_0`).
    pub quantisation: String,
    /// Longest context in tokens.
    pub context_length: u32,
    /// Layers.
    pub layers: u32,
    /// Query heads.
    pub heads: u32,
    /// Key and value heads.
    pub kv_heads: u32,
    /// Values in one token's hidden state.
    pub width: u32,
    /// Entries of the vocabulary.
    pub vocabulary: u32,
    /// Kind of tokenizer.
    pub tokenizer: String,
    /// Special tokens.
    #[serde(default)]
    pub special_tokens: Vec<SpecialToken>,
    /// Sliding window, if some layers have one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub window: Option<WindowFacts>,
    /// Kinds of requests it serves: `chat`, `completion`, `embeddings`, `tool calls`, `fill-in-the-middle`.
    #[serde(default)]
    pub serves: Vec<String>,
    /// How the model writes tool calls, if its template writes any.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tool_calls: Option<ToolCallFacts>,
    /// The markers around its reasoning, if it has any.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reasoning: Option<ReasoningFacts>,
    /// Pooling of embeddings, if it makes embeddings.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pooling: Option<String>,
    /// A small conversation rendered by the template, or the error.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sample: Option<String>,
    /// Number of files.
    #[serde(default)]
    pub files: u32,
    /// Length of a key of one head.
    #[serde(default)]
    pub key_length: u32,
    /// Length of a value of one head.
    #[serde(default)]
    pub value_length: u32,
    /// Whether the file has a chat template.
    pub has_template: bool,
    /// The chat template.
    #[serde(default)]
    pub template: Option<String>,
    /// Licence, as in the file.
    pub licence: Option<String>,
    /// Description, as in the file.
    pub description: Option<String>,
    /// Warnings for the operator.
    #[serde(default)]
    pub warnings: Vec<String>,
}

/// How a model writes tool calls.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ToolCallFacts {
    /// The form, for example `json-between-markers`.
    pub form: String,
    /// A call in this form.
    pub example: String,
    /// Whether an answer may have several calls.
    pub several: bool,
}

/// The markers around a model's reasoning.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ReasoningFacts {
    /// The marker before it.
    pub opening: String,
    /// The marker after it.
    pub closing: String,
}

/// A special token.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SpecialToken {
    /// Role: `begin`, `end`, `ends answers`, `unknown`.
    pub role: String,
    /// Its id.
    pub id: u32,
    /// Its text.
    pub text: String,
}

/// Layers with a sliding window.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct WindowFacts {
    /// Number of layers.
    pub layers: u32,
    /// Width of the window in tokens.
    pub tokens: u32,
}

/// `POST /manage/v1/checks`.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct CheckRequest {
    /// Model or variant.
    pub model: String,
}

/// Result of a model check.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct CheckReport {
    /// The variant.
    pub name: String,
    /// Whether every test passed.
    #[serde(alias = "well")]
    pub passed: bool,
    /// The result in a sentence.
    pub verdict: String,
    /// The tests.
    pub findings: Vec<Finding>,
}

/// One test of a model check.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Finding {
    /// What was tested.
    pub what: String,
    /// Whether the test passed.
    #[serde(alias = "well")]
    pub passed: bool,
    /// What was found.
    pub found: String,
}

/// One tensor type of a mix.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct MixShare {
    /// Tensor type.
    pub tensor_type: String,
    /// Number of tensors.
    pub tensors: u32,
    /// Their bytes.
    pub bytes: u64,
}

/// A variant of a model in the depot.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Variant {
    /// `model/variant`.
    pub name: String,
    /// The model's name.
    pub model: String,
    /// The variant's name within the model.
    pub variant: String,
    /// Path of the file.
    pub path: String,
    /// Its length in bytes.
    pub file_bytes: u64,
    /// When it was registered.
    pub registered_at: DateTime<Utc>,
    /// Whether an instance of it is ready.
    pub loaded: bool,
    /// Whether its files are stored in the depot; files that are only registered stay elsewhere on the machine.
    #[serde(default, alias = "kept")]
    pub stored: bool,
    /// Time of its last call.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub last_used: Option<DateTime<Utc>>,
    /// Number of its calls.
    #[serde(default)]
    pub calls: u64,
    /// Facts from its file.
    pub facts: ModelFacts,
}

/// `POST /manage/v1/depot/register`.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct RegisterRequest {
    /// Absolute path of the file on the service's machine.
    pub path: String,
    /// `model` or `model/variant`; made from file name and contents where absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// Whether the registration is temporary: the variant is not listed or recorded, and is removed with its last
    /// instance.
    #[serde(default, alias = "passing")]
    pub temporary: bool,
}
