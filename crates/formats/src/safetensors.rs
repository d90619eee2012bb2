//! Safetensors: the length of a header, the header as JSON, the data.
//!
//! Source: the published description of the format. The header is an object of tensors, each with
//! `dtype`, `shape` and `data_offsets` (from the end of the header), and perhaps `__metadata__`.

use std::io::{self, Read};

use serde_json::{Map, Value};
use thiserror::Error;

/// Longest header in bytes, as the format itself limits it.
const LONGEST_HEADER: u64 = 100_000_000;

/// The error of a safetensors file that cannot be read.
#[derive(Debug, Error)]
pub enum SafetensorsError {
    /// The operating system refused a read.
    #[error(transparent)]
    Io(#[from] io::Error),
    /// The file is not a safetensors file, or is damaged.
    #[error("not a safetensors file: {0}")]
    Malformed(String),
}

/// A tensor of a safetensors file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SafeTensor {
    /// Its name.
    pub name: String,
    /// Type of its values, as the file writes it (`F16`, `BF16`).
    pub kind: String,
    /// Its dimensions, the slowest first.
    pub shape: Vec<u64>,
    /// Begin and end of its data, from the end of the header.
    pub data: (u64, u64),
}

impl SafeTensor {
    /// Number of its values.
    #[must_use]
    pub fn values(&self) -> u64 {
        self.shape.iter().product()
    }
}

/// Reads the tensors of a file of `file_bytes` bytes.
///
/// # Errors
/// See [`SafetensorsError`]. Nothing larger than the file is allocated.
pub fn tensors(
    mut source: impl Read,
    file_bytes: u64,
) -> Result<Vec<SafeTensor>, SafetensorsError> {
    let wrong = |what: String| SafetensorsError::Malformed(what);
    let mut length = [0; 8];
    if file_bytes < 8 {
        return Err(wrong(format!("it has {file_bytes} bytes")));
    }
    source.read_exact(&mut length)?;
    let length = u64::from_le_bytes(length);
    if length > file_bytes - 8 || length > LONGEST_HEADER {
        return Err(wrong(format!("its header has {length} bytes")));
    }
    let mut header = vec![0; usize::try_from(length).unwrap_or(usize::MAX)];
    source.read_exact(&mut header)?;
    let header: Map<String, Value> = serde_json::from_slice(&header)
        .map_err(|error| wrong(format!("its header is not a JSON object: {error}")))?;
    let room = file_bytes - 8 - length;
    let tensors = header.iter().filter(|(name, _)| *name != "__metadata__");
    tensors.map(|(name, about)| tensor(name, about, room)).collect()
}

fn tensor(name: &str, about: &Value, room: u64) -> Result<SafeTensor, SafetensorsError> {
    let wrong = |what: &str| SafetensorsError::Malformed(format!("tensor `{name}` {what}"));
    let numbers = |key: &str| -> Option<Vec<u64>> {
        about.get(key)?.as_array()?.iter().map(Value::as_u64).collect()
    };
    let kind = about.get("dtype").and_then(Value::as_str).ok_or_else(|| wrong("has no type"))?;
    let shape = numbers("shape").ok_or_else(|| wrong("has no shape"))?;
    let fits = shape.iter().try_fold(1_u64, |all, size| all.checked_mul(*size)).is_some();
    let offsets = numbers("data_offsets").ok_or_else(|| wrong("has no offsets"))?;
    match offsets[..] {
        [start, end] if start <= end && end <= room && fits => {
            let (name, kind) = (name.to_owned(), kind.to_owned());
            Ok(SafeTensor { name, kind, shape, data: (start, end) })
        }
        _ => Err(wrong("is outside the file, which may be truncated")),
    }
}

#[cfg(test)]
mod tests {
    use std::path::Path;

    use super::*;

    fn demo() -> Vec<u8> {
        let path = "../../demo/larkfen-desk-mini/model.safetensors";
        std::fs::read(Path::new(env!("CARGO_MANIFEST_DIR")).join(path)).unwrap()
    }

    #[test]
    fn the_demo_checkpoint_has_as_many_values_as_its_gguf_file() {
        let file = demo();
        let found = tensors(&file[..], file.len() as u64).unwrap();
        let values: u64 = found.iter().map(SafeTensor::values).sum();
        let gguf = "../../demo/larkfen-desk-mini/larkfen-desk-mini-f16.gguf";
        let gguf = Path::new(env!("CARGO_MANIFEST_DIR")).join(gguf);
        let header = crate::gguf::StoredModel::read(&gguf).unwrap().header;
        assert_eq!(values, header.parameters());
        assert!(found.iter().all(|tensor| tensor.kind == "F16"));
    }

    #[test]
    fn what_is_none_or_is_cut_short_is_refused_with_the_reason() {
        let file = demo();
        let error = |bytes: &[u8]| tensors(bytes, bytes.len() as u64).unwrap_err().to_string();
        assert!(error(&file[..5]).contains("it has 5 bytes"));
        assert!(error(&file[..file.len() - 9]).contains("may be truncated"));
        assert!(error(b"GGUF\x03\0\0\0....").contains("its header has"));
        assert!(error(b"\x02\0\0\0\0\0\0\0[]").contains("not a JSON object"));
        let with = |json: &str| {
            let mut bytes = (json.len() as u64).to_le_bytes().to_vec();
            bytes.extend_from_slice(json.as_bytes());
            error(&bytes)
        };
        assert!(with(r#"{"a":{"shape":[1],"data_offsets":[0,0]}}"#).contains("has no type"));
        assert!(with(r#"{"a":{"dtype":"F16","data_offsets":[0,0]}}"#).contains("has no shape"));
        let huge = r#"{"a":{"dtype":"F16","shape":[18446744073709551615,9],"data_offsets":[0,0]}}"#;
        assert!(with(huge).contains("is outside the file"));
    }
}
