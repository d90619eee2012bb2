//! GGUF: a file with metadata (keys and typed values) and tensors.
//!
//! Source: the published GGUF specification, versions 2 and 3, little-endian. Layout: magic,
//! version, tensor count, key count; the keys with their values; one entry per tensor (name,
//! dimensions with the fastest first, type, offset); padding up to the alignment; the data.

mod error;
mod metadata;
mod read;
mod split;
mod tensors;
mod texts;
mod write;

pub use error::GgufError;
pub use metadata::{Array, Metadata, MetadataError, Value};
pub use split::StoredModel;
pub use tensors::TensorInfo;
pub use texts::TextList;
pub use write::{TensorPlan, write};

use std::io::{Read, Seek};

/// The header of a GGUF file: everything but the data of the tensors.
#[derive(Debug, Clone)]
pub struct Header {
    /// Format version, 2 or 3.
    pub version: u32,
    /// Keys and values in file order.
    pub metadata: Metadata,
    /// Tensors in file order; each is completely within the file and overlaps no other one.
    pub tensors: Vec<TensorInfo>,
    /// Absolute offset in bytes of the tensor data.
    pub data_start: u64,
    /// Length of the whole file in bytes.
    pub file_bytes: u64,
}

impl Header {
    /// Reads and checks the header of a file of `file_bytes` bytes.
    ///
    /// # Errors
    /// See [`GgufError`]. Nothing larger than the file is allocated.
    pub fn read<R: Read + Seek>(source: R, file_bytes: u64) -> Result<Self, GgufError> {
        read::header(source, file_bytes)
    }

    /// The tensor with a name, if the file has it.
    #[must_use]
    pub fn tensor(&self, name: &str) -> Option<&TensorInfo> {
        self.tensors.iter().find(|tensor| tensor.name == name)
    }

    /// Number of values in all tensors.
    #[must_use]
    pub fn parameters(&self) -> u64 {
        self.tensors.iter().map(TensorInfo::values).sum()
    }
}

#[cfg(test)]
mod tests;
