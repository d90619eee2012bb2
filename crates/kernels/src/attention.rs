//! Attention of one query head over cached keys and values.

use crate::dot::{add_scaled_f16, f16_row, f32_row};
use crate::{Path, softmax};

/// Cached rows of one kind (keys or values): bytes of `F32` or `F16` values, position by position.
#[derive(Debug, Clone, Copy)]
pub enum CacheRows<'a> {
    /// Single precision.
    F32(&'a [u8]),
    /// Half precision.
    F16(&'a [u8]),
}

impl CacheRows<'_> {
    fn score(&self, path: Path, start: usize, query: &[f32]) -> f32 {
        match self {
            Self::F32(bytes) => f32_row(path, &bytes[start * 4..][..query.len() * 4], query),
            Self::F16(bytes) => f16_row(path, &bytes[start * 2..][..query.len() * 2], query),
        }
    }

    fn add_scaled(&self, path: Path, start: usize, weight: f32, out: &mut [f32]) {
        match self {
            Self::F32(bytes) => {
                let words = bytes[start * 4..][..out.len() * 4].as_chunks::<4>().0;
                for (sum, word) in out.iter_mut().zip(words) {
                    *sum += weight * f32::from_le_bytes(*word);
                }
            }
            Self::F16(bytes) => {
                add_scaled_f16(path, &bytes[start * 2..][..out.len() * 2], weight, out)
            }
        }
    }
}

/// `out = softmax(scale * keys . query) . values` over the first `scores.len()` positions.
///
/// A position's row begins at `position * stride + offset` values and is as long as `query` (keys)
/// or `out` (values). `scores` is working space; values are summed in order of positions, so the
/// result does not depend on how the prompt was cut into chunks.
#[expect(clippy::too_many_arguments, reason = "rows are described by where they lie")]
pub fn attend(
    path: Path,
    query: &[f32],
    keys: CacheRows<'_>,
    key_place: (usize, usize),
    values: CacheRows<'_>,
    value_place: (usize, usize),
    scale: f32,
    scores: &mut [f32],
    out: &mut [f32],
) {
    for (position, score) in scores.iter_mut().enumerate() {
        *score = scale * keys.score(path, position * key_place.0 + key_place.1, query);
    }
    softmax(scores);
    out.fill(0.0);
    for (position, weight) in scores.iter().enumerate() {
        values.add_scaled(path, position * value_place.0 + value_place.1, *weight, out);
    }
}
