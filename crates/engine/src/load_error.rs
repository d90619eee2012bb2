//! Errors of loading a model file.

use std::path::PathBuf;

use deft_formats::gguf::{GgufError, MetadataError};
use deft_planning::Bytes;
use thiserror::Error;

use crate::layer_memory::OutOfMemory;
use crate::tokenizer::TokenizerError;

/// The supported families, as files name them.
pub const SUPPORTED: &[&str] =
    &["llama", "qwen2", "qwen3", "qwen3moe", "gemma2", "gemma3", "phi3", "bert"];

/// The error of a file that cannot be loaded.
#[derive(Debug, Error)]
pub enum LoadError {
    /// The file cannot be opened.
    #[error("cannot open `{}`: {source}", path.display())]
    Open {
        /// Its path.
        path: PathBuf,
        /// The error of the operating system.
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
    /// The family is not supported.
    #[error("family `{family}` is not supported; supported: {}", SUPPORTED.join(", "))]
    Family {
        /// The family as the file names it.
        family: String,
    },
    /// The file needs something that is not supported.
    #[error("the file cannot be used: {what}")]
    Unsupported {
        /// The name of the missing feature.
        what: String,
    },
    /// An accelerator has too little memory.
    #[error(transparent)]
    OutOfMemory(#[from] OutOfMemory),
    /// The weights cannot be locked into memory.
    #[error(
        "{bytes} of weights cannot be locked into memory ({source}){}; load with --weights mapped, or raise the \
         limit on locked memory of the service",
        limit.map_or_else(String::new, |limit| format!("; the limit is {limit}"))
    )]
    Lock {
        /// Bytes to lock.
        bytes: Bytes,
        /// The limit in bytes, if there is one.
        limit: Option<Bytes>,
        /// The error of the operating system.
        source: std::io::Error,
    },
    /// A tensor is missing, or has another shape or type than the family requires.
    #[error("the file cannot be used: tensor `{tensor}` {what}")]
    Tensor {
        /// Its name.
        tensor: String,
        /// The defect.
        what: String,
    },
}
