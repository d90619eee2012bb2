//! Programs that call a model.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The language of a snippet.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum SnippetLanguage {
    /// A command for a shell.
    Curl,
    /// Python, with its standard library.
    Python,
    /// JavaScript.
    Javascript,
}

impl SnippetLanguage {
    /// All languages.
    pub const ALL: [Self; 3] = [Self::Curl, Self::Python, Self::Javascript];
}

/// What a snippet asks of a model.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum SnippetTask {
    /// An answer to a question.
    Chat,
    /// The continuation of a text.
    Completion,
    /// The embeddings of texts.
    Embeddings,
    /// Documents in the order of their relevance to a query.
    Rerank,
}

/// A working call of a model of this server.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Snippet {
    /// What it asks.
    pub task: SnippetTask,
    /// Its language.
    pub language: SnippetLanguage,
    /// Its text.
    pub code: String,
}
