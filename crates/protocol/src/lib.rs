//! The types on the wire: the chat-completions protocol, the management API, and the messages
//! between the service and its engine processes. Types only; nobody acts here.
#![forbid(unsafe_code)]

pub mod chat;
pub mod embeddings;
pub mod engine;
pub mod manage;
mod problem;
pub mod text;
mod usual;

pub use problem::{Problem, ProblemKind, Way};

/// Version of this build; client and service compare theirs.
pub const VERSION: &str = env!("CARGO_PKG_VERSION");
/// Response header in which the service tells its version.
pub const VERSION_HEADER: &str = "deft-version";
/// Where the service listens unless told otherwise.
pub const DEFAULT_LISTEN: &str = "127.0.0.1:8471";
