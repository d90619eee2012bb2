//! The types on the wire: the chat-completions protocol, the management API, and the messages
//! between the service and its engine processes. Types only.
#![forbid(unsafe_code)]

pub mod batches;
pub mod chat;
pub mod embeddings;
pub mod engine;
pub mod manage;
pub mod messages;
mod problem;
pub mod rerank;
pub mod responses;
pub mod text;
pub mod tokens;
pub mod tools;
mod usual;

pub use problem::{Problem, ProblemKind, Way};

/// Version of this build; client and service compare theirs.
pub const VERSION: &str = env!("CARGO_PKG_VERSION");
/// Response header with the service's version.
pub const VERSION_HEADER: &str = "deft-version";
/// Default address of the service.
pub const DEFAULT_LISTEN: &str = "127.0.0.1:8471";

/// An event of a stream, for the description of the API.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize, serde::Deserialize, utoipa::ToSchema)]
pub struct StreamEvent {
    /// Its name; `message` if the stream does not say.
    pub event: String,
    /// JSON, or a word that ends the stream.
    pub data: String,
}
