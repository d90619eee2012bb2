//! The list of tensors; the range of each one is compared with the file.

use super::GgufError;
use crate::quant::TensorType;

/// One tensor of a file. Its data is row-major; a row is `dimensions[0]` values long.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TensorInfo {
    /// Name, unique in the file.
    pub name: String,
    /// One to four dimensions, the fastest first; none is zero.
    pub dimensions: Vec<u64>,
    /// The type of the stored values.
    pub tensor_type: TensorType,
    /// Index of the model's file that has it; 0 if there is only one.
    pub part: usize,
    /// Absolute offset in bytes of the first value in that file.
    pub offset: u64,
    /// Length in bytes.
    pub bytes: u64,
}

impl TensorInfo {
    /// Number of values.
    #[must_use]
    pub fn values(&self) -> u64 {
        self.dimensions.iter().product()
    }

    /// Checks an entry and computes its length.
    pub(super) fn checked(
        name: String,
        dimensions: Vec<u64>,
        type_id: u32,
        relative_offset: u64,
    ) -> Result<Self, GgufError> {
        let wrong = |what: String| GgufError::Tensor { tensor: name.clone(), what };
        let tensor_type = TensorType::from_id(type_id)
            .ok_or_else(|| wrong(format!("has type {type_id}, which is not a known type")))?;
        if let Some(at) = dimensions.iter().position(|&size| size == 0) {
            return Err(wrong(format!("has size 0 in dimension {at}")));
        }
        let values =
            dimensions
                .iter()
                .try_fold(1u64, |product, &size| product.checked_mul(size))
                .ok_or_else(|| wrong(format!("has dimensions {dimensions:?}, beyond 64 bits")))?;
        let block = tensor_type.block_values() as u64;
        if !dimensions[0].is_multiple_of(block) {
            return Err(wrong(format!(
                "has rows of {} values; {tensor_type} stores blocks of {block}",
                dimensions[0]
            )));
        }
        let bytes = (values / block)
            .checked_mul(tensor_type.block_bytes() as u64)
            .ok_or_else(|| wrong("is longer than 64 bits can express".to_owned()))?;
        Ok(Self { name, dimensions, tensor_type, part: 0, offset: relative_offset, bytes })
    }
}

/// Converts relative offsets to absolute ones. Checks that every tensor is aligned and within the file, that names differ, and
/// that tensors do not overlap.
pub(super) fn place(
    tensors: &mut [TensorInfo],
    data_start: u64,
    alignment: u64,
    file_bytes: u64,
) -> Result<(), GgufError> {
    for tensor in tensors.iter_mut() {
        let wrong = |what: String| GgufError::Tensor { tensor: tensor.name.clone(), what };
        if !tensor.offset.is_multiple_of(alignment) {
            return Err(wrong(format!(
                "starts at {}, which is not a multiple of the alignment {alignment}",
                tensor.offset
            )));
        }
        let start = data_start.checked_add(tensor.offset);
        let end = start.and_then(|start| start.checked_add(tensor.bytes));
        match (start, end) {
            (Some(start), Some(end)) if end <= file_bytes => tensor.offset = start,
            (Some(start), Some(_)) => {
                return Err(GgufError::PastEnd {
                    what: format!("tensor `{}`", tensor.name),
                    need: tensor.bytes,
                    offset: start,
                    file_bytes,
                });
            }
            _ => {
                return Err(wrong(format!("starts at {}, beyond 64 bits", tensor.offset)));
            }
        }
    }
    apart(tensors)
}

/// Refuses equal names of two tensors.
pub(super) fn named_once(tensors: &[TensorInfo]) -> Result<(), GgufError> {
    let mut names: Vec<&str> = tensors.iter().map(|tensor| tensor.name.as_str()).collect();
    names.sort_unstable();
    match names.windows(2).find(|pair| pair[0] == pair[1]) {
        None => Ok(()),
        Some(pair) => Err(GgufError::Tensor {
            tensor: pair[0].to_owned(),
            what: "is listed twice".to_owned(),
        }),
    }
}

fn apart(tensors: &[TensorInfo]) -> Result<(), GgufError> {
    named_once(tensors)?;
    let mut by_place: Vec<&TensorInfo> = tensors.iter().collect();
    by_place.sort_by_key(|tensor| tensor.offset);
    match by_place.windows(2).find(|pair| pair[0].offset + pair[0].bytes > pair[1].offset) {
        None => Ok(()),
        Some(pair) => Err(GgufError::Tensor {
            tensor: pair[1].name.clone(),
            what: format!("overlaps tensor `{}`", pair[0].name),
        }),
    }
}
