//! Why a model file cannot be loaded.

use std::path::PathBuf;

use deft_formats::gguf::{GgufError, MetadataError};
use deft_planning::Bytes;
use thiserror::Error;

use crate::layer_memory::OutOfMemory;
use crate::tokenizer::TokenizerError;

/// Families that this engine computes, as files name them.
pub const SUPPORTED: &[&str] =
    &["llama", "qwen2", "qwen3", "qwen3moe", "gemma2", "gemma3", "phi3", "bert"];

/// Why a file cannot be loaded.
#[derive(Debug, Error)]
pub enum LoadError {
    /// The file cannot be opened.
    #[error("cannot open `{}`: {source}", path.display())]
    Open {
        /// Where it should be.
        path: PathBuf,
        /// What the operating system says.
        source: std::io::Error,
    },
    /// The container is damaged.
    #[error(transparent)]
    Gguf(#[from] GgufError),
    /// A key is missing or wrong.
    #[error("the file cannot be used: {0}")]
    Metadata(#[from] MetadataError),
    /// The tokenizer cannot be used.
    #[error("the file cannot be used: {0}")]
    Tokenizer(#[from] TokenizerError),
    /// The family is not built here.
    #[error("family `{family}` is not supported; supported: {}", SUPPORTED.join(", "))]
    Family {
        /// As the file writes it.
        family: String,
    },
    /// Something in the file is beyond what is built here.
    #[error("the file cannot be used: {what}")]
    Unsupported {
        /// What, by name.
        what: String,
    },
    /// A place has too little memory.
    #[error(transparent)]
    OutOfMemory(#[from] OutOfMemory),
    /// The weights cannot be locked into memory.
    #[error(
        "{bytes} of weights cannot be locked into memory ({source}){}; load with --weights mapped, or raise the \
         limit on locked memory of the service",
        limit.map_or_else(String::new, |limit| format!("; the limit is {limit}"))
    )]
    Lock {
        /// How much.
        bytes: Bytes,
        /// How much may be, where there is a limit.
        limit: Option<Bytes>,
        /// What the operating system says.
        source: std::io::Error,
    },
    /// A tensor is missing or has another form than the family says.
    #[error("the file cannot be used: tensor `{tensor}` {what}")]
    Tensor {
        /// Its name.
        tensor: String,
        /// What is wrong.
        what: String,
    },
}
