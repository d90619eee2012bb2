//! Profiles: settings for a model, under a name of their own.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What an input is for a model that compares queries with passages.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum InputRole {
    /// A text that is searched for.
    Query,
    /// A text that can be found.
    Passage,
}

/// What a profile sets.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ProfileSettings {
    /// Model or variant.
    pub model: String,
    /// A call of a tool `find` with the argument `text`, whose value is `Moonhook`, as the model shall write it. For a model
    /// whose chat template writes no calls.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub call_example: Option<String>,
    /// The text before each query that is embedded.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub query_prefix: Option<String>,
    /// The text before each passage that is embedded.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub passage_prefix: Option<String>,
    /// What the inputs of a request for embeddings are if the request does not say it; passages by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub inputs: Option<InputRole>,
    /// The lengths, besides the whole one, that the embeddings of the model were trained for.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub dimensions: Vec<u32>,
}

/// A profile: settings for a model, under a name that programs use like a model's.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Profile {
    /// Its name.
    pub name: String,
    /// What it sets.
    #[serde(flatten)]
    pub settings: ProfileSettings,
    /// When it was saved.
    pub saved_at: DateTime<Utc>,
}
