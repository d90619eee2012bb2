//! The depot: what is there, what a file says of itself, whether a model is well.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What a model file says of itself, read from the file.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ModelFacts {
    /// Family, as the file writes it (`general.architecture`).
    pub family: String,
    /// Name the file gives the model.
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
    /// Tokens with a role of their own.
    #[serde(default)]
    pub special_tokens: Vec<SpecialToken>,
    /// How far its layers see, where some do not see everything.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub window: Option<WindowFacts>,
    /// What it can be asked for: `chat`, `completion`, `embeddings`, `tool calls`.
    #[serde(default)]
    pub serves: Vec<String>,
    /// How embeddings are pooled, where it makes them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pooling: Option<String>,
    /// A small conversation as the template writes it, or why it cannot.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sample: Option<String>,
    /// Files it is stored in.
    #[serde(default)]
    pub files: u32,
    /// Values in a key of one head.
    #[serde(default)]
    pub key_length: u32,
    /// Values in a value of one head.
    #[serde(default)]
    pub value_length: u32,
    /// Whether the file carries a chat template.
    pub has_template: bool,
    /// The chat template.
    #[serde(default)]
    pub template: Option<String>,
    /// Licence, as the file writes it.
    pub licence: Option<String>,
    /// Description, as the file writes it.
    pub description: Option<String>,
    /// What an operator should know.
    #[serde(default)]
    pub warnings: Vec<String>,
}

/// A token with a role of its own.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SpecialToken {
    /// What it does: `begin`, `end`, `ends answers`, `unknown`.
    pub role: String,
    /// Its id.
    pub id: u32,
    /// Its text.
    pub text: String,
}

/// Layers that see a window only.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct WindowFacts {
    /// How many layers.
    pub layers: u32,
    /// How many tokens they see.
    pub tokens: u32,
}

/// `POST /manage/v1/checks`.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct CheckRequest {
    /// Model or variant.
    pub model: String,
}

/// What the self-check of a model found.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct CheckReport {
    /// The variant.
    pub name: String,
    /// Whether everything that was looked at is well.
    pub well: bool,
    /// The verdict in a sentence.
    pub verdict: String,
    /// What was looked at, one by one.
    pub findings: Vec<Finding>,
}

/// One thing the self-check looked at.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Finding {
    /// What.
    pub what: String,
    /// Whether it is well.
    pub well: bool,
    /// What was found, in plain words.
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
    /// Where the file is.
    pub path: String,
    /// Its length in bytes.
    pub file_bytes: u64,
    /// When it was registered.
    pub registered_at: DateTime<Utc>,
    /// Whether an instance of it is ready.
    pub loaded: bool,
    /// Whether its files are the depot's own, and not somewhere else on the machine.
    #[serde(default)]
    pub kept: bool,
    /// When it was asked last.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub last_used: Option<DateTime<Utc>>,
    /// How often it was asked.
    #[serde(default)]
    pub calls: u64,
    /// What the file says of itself.
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
    /// For the time of a call only: it is in no list and no record, and forgotten when its last
    /// instance has gone.
    #[serde(default)]
    pub passing: bool,
}
