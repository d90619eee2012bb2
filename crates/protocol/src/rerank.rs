//! Documents in the order of their relevance to a query.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::embeddings::EmbeddingUsage;

/// `POST /v1/rerank`.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct RerankRequest {
    /// Model or variant; it must make embeddings or be a cross-encoder.
    pub model: String,
    /// What is searched.
    pub query: String,
    /// The documents.
    pub documents: Vec<RerankDocument>,
    /// Return only this many of the most relevant documents; all by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub top_n: Option<u32>,
    /// Also return the texts.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub return_documents: Option<bool>,
    /// The caller, for records and the queue.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub user: Option<String>,
}

/// A document.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(untagged, expecting = "expected a text, or an object with the field `text`")]
pub enum RerankDocument {
    /// Its text.
    Plain(String),
    /// Its text in a field.
    Object {
        /// The text.
        text: String,
    },
}

impl RerankDocument {
    /// Its text.
    #[must_use]
    pub fn into_text(self) -> String {
        match self {
            Self::Plain(text) | Self::Object { text } => text,
        }
    }
}

/// The documents, the most relevant first.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct RerankResponse {
    /// The variant that compared them.
    pub model: String,
    /// The documents.
    pub results: Vec<RerankResult>,
    /// Token counts.
    pub usage: EmbeddingUsage,
}

/// A document of the result.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct RerankResult {
    /// Its number in the request, from 0.
    pub index: u32,
    /// With a cross-encoder, the probability that it is relevant, from 0 to 1. Otherwise the cosine of the angle between its
    /// embedding and the query's, from -1 to 1.
    pub relevance_score: f32,
    /// Its text, if requested.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub document: Option<RerankDocument>,
}
