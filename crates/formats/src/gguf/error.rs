use std::path::PathBuf;

use thiserror::Error;

/// The error of a file that is not a usable GGUF file.
#[derive(Debug, Error)]
pub enum GgufError {
    /// The first four bytes are not the magic.
    #[error("not a GGUF file: it starts with {found}, a GGUF file starts with \"GGUF\"")]
    Magic {
        /// The bytes found, printable.
        found: String,
    },
    /// An unsupported version.
    #[error("GGUF version {version} is not supported (versions 2 and 3 are){hint}")]
    Version {
        /// The version in the file.
        version: u32,
        /// An explanation, if there is one.
        hint: &'static str,
    },
    /// The file ends, or a length points, beyond its last byte.
    #[error(
        "the file is truncated or damaged: {what} needs {need} bytes at offset {offset}, the file has \
         {file_bytes}; pull or copy it again"
    )]
    PastEnd {
        /// The object that was being read.
        what: String,
        /// Requested bytes.
        need: u64,
        /// Offset in the file.
        offset: u64,
        /// Length of the file.
        file_bytes: u64,
    },
    /// The file contradicts the specification.
    #[error("damaged GGUF file: {what} at offset {offset}")]
    Malformed {
        /// The defect.
        what: String,
        /// Offset in the file.
        offset: u64,
    },
    /// An invalid tensor entry.
    #[error("damaged GGUF file: tensor `{tensor}` {what}")]
    Tensor {
        /// Name of the tensor.
        tensor: String,
        /// The defect.
        what: String,
    },
    /// A part of a model in several files is missing or wrong.
    #[error("the part `{}` of the model cannot be used: {what}", part.display())]
    Split {
        /// The part.
        part: PathBuf,
        /// The defect.
        what: String,
    },
    /// The operating system refused a read.
    #[error("cannot read the file: {0}")]
    Io(#[from] std::io::Error),
}
