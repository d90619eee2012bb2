//! How an engine process works on a call, for an operator who looks for the fault of an agent.

use serde::{Deserialize, Serialize};

/// A step of the work.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum TraceStep {
    /// The prompt was prepared.
    Prompt {
        /// The rendered text, with control tokens.
        text: String,
        /// The constraint of the answer or of its tool calls.
        constraint: Option<String>,
        /// A tool call as the model's template writes it, if the call has tools.
        call_form: Option<String>,
    },
    /// Bytes of the next token of the answer, as the model wrote it.
    Output(Vec<u8>),
    /// Reading a tool call stopped: its text up to there.
    Stopped(String),
}
