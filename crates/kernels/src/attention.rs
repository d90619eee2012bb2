//! Attention of one query head over cached keys and values.

use crate::dot::{add_scaled_f16, f16_row, f32_row};
use crate::{Path, soft_cap, softmax};

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

/// Which positions are looked at, and how.
///
/// A position's row begins at `position * stride + offset` values and is as long as the query (keys)
/// or the output (values).
#[derive(Debug, Clone, Copy)]
pub struct Reach {
    /// The first position.
    pub first: usize,
    /// Values from one position's keys to the next.
    pub key_stride: usize,
    /// Where a row of keys begins.
    pub key_offset: usize,
    /// Values from one position's values to the next.
    pub value_stride: usize,
    /// Where a row of values begins.
    pub value_offset: usize,
    /// Factor on scores.
    pub scale: f32,
    /// Scores are squeezed between plus and minus this.
    pub cap: Option<f32>,
}

/// `out = softmax(cap(scale * keys . query)) . values` over `scores.len()` positions.
///
/// `scores` is working space; values are summed in order of positions, so the result does not
/// depend on how the prompt was cut into chunks.
pub fn attend(
    path: Path,
    query: &[f32],
    keys: CacheRows<'_>,
    values: CacheRows<'_>,
    reach: Reach,
    scores: &mut [f32],
    out: &mut [f32],
) {
    for (at, score) in scores.iter_mut().enumerate() {
        let start = (reach.first + at) * reach.key_stride + reach.key_offset;
        *score = reach.scale * keys.score(path, start, query);
    }
    if let Some(cap) = reach.cap {
        soft_cap(scores, cap);
    }
    softmax(scores);
    out.fill(0.0);
    for (at, weight) in scores.iter().enumerate() {
        let start = (reach.first + at) * reach.value_stride + reach.value_offset;
        values.add_scaled(path, start, *weight, out);
    }
}
