//! Scores, softmax and weighted sums of a page. The plain bodies are the specification.

use super::PAGE;
#[cfg(target_arch = "x86_64")]
use super::{avx2, avx512};
use crate::curve::{exp, tanh};
#[cfg(target_arch = "x86_64")]
use crate::matrix::{Half, Single};
use crate::on_every_path;
use crate::{Instructions, matrix};

/// Number of rows whose scores are converted to weights together.
pub(super) const ROWS: usize = 16;

/// Rows of a page, as floats or as half floats.
#[derive(Clone, Copy)]
pub(super) enum Rows<'a> {
    /// Floats.
    Single(&'a [f32]),
    /// Stored half floats, for paths that read them.
    #[cfg(target_arch = "x86_64")]
    Half(&'a [u8]),
}

impl<'a> Rows<'a> {
    /// The floats, for paths that read only floats.
    pub(super) fn floats(self) -> &'a [f32] {
        match self {
            Self::Single(floats) => floats,
            #[cfg(target_arch = "x86_64")]
            Self::Half(_) => {
                unreachable!("half floats are left as they are for paths that read them")
            }
        }
    }

    pub(super) fn len(&self) -> usize {
        match self {
            Self::Single(floats) => floats.len(),
            #[cfg(target_arch = "x86_64")]
            Self::Half(bytes) => bytes.len() / 2,
        }
    }
}

/// `scores[query][position] = keys[.][position] . query`; `queries` is `queries x length`, `keys` is
/// `length x positions`. Some paths prefetch `next`.
pub(super) fn scores(
    path: Instructions,
    queries: &[f32],
    keys: Rows<'_>,
    length: usize,
    scores: &mut [[f32; PAGE]],
    next: &[u8],
) {
    assert_eq!(queries.len(), scores.len() * length, "queries and scores differ");
    assert_eq!(keys.len(), length * PAGE, "keys and queries differ");
    match (path, keys) {
        #[cfg(target_arch = "x86_64")]
        // SAFETY: the path was found on this processor; lengths were asserted.
        (Instructions::Avx512, Rows::Single(keys)) => unsafe {
            avx512::scores::<Single>(queries, bytemuck::cast_slice(keys), length, scores, next);
        },
        #[cfg(target_arch = "x86_64")]
        // SAFETY: rows are left as they are on this path only; the rest as above.
        (_, Rows::Half(keys)) => unsafe {
            avx512::scores::<Half>(queries, keys, length, scores, next);
        },
        #[cfg(target_arch = "x86_64")]
        // SAFETY: the path was found on this processor; lengths were asserted.
        (Instructions::AvxVnni | Instructions::Avx2, Rows::Single(keys)) => unsafe {
            avx2::scores(queries, keys, length, scores);
        },
        (_, Rows::Single(keys)) => plain_scores(queries, keys, length, scores),
    }
}

/// `sums[query] += scores[query][position] * values[position]` for the first `used` positions; rows of
/// values and sums are `width` long, a multiple of 16. Some paths prefetch `next`.
pub(super) fn gather(
    path: Instructions,
    scores: &[[f32; PAGE]],
    values: Rows<'_>,
    width: usize,
    used: usize,
    sums: &mut [f32],
    next: &[u8],
) {
    assert!(width.is_multiple_of(16) && used <= PAGE && values.len() >= width * used);
    assert_eq!(sums.len(), scores.len() * width, "scores and sums differ");
    match (path, values) {
        #[cfg(target_arch = "x86_64")]
        // SAFETY: the path was found on this processor; lengths were asserted.
        (Instructions::Avx512, Rows::Single(values)) => unsafe {
            let values = bytemuck::cast_slice(values);
            avx512::gather::<Single>(scores, values, width, used, sums, next);
        },
        #[cfg(target_arch = "x86_64")]
        // SAFETY: rows are left as they are on this path only; the rest as above.
        (_, Rows::Half(values)) => unsafe {
            avx512::gather::<Half>(scores, values, width, used, sums, next);
        },
        #[cfg(target_arch = "x86_64")]
        // SAFETY: the path was found on this processor; lengths were asserted.
        (Instructions::AvxVnni | Instructions::Avx2, Rows::Single(values)) => unsafe {
            avx2::gather(scores, values, width, used, sums);
        },
        (_, Rows::Single(values)) => plain_gather(scores, values, width, used, sums),
    }
}

/// Scores of some rows, which are converted to weights, and their state.
pub(super) struct Softmax<'a> {
    /// `queries x positions`.
    pub(super) scores: &'a mut [[f32; PAGE]],
    /// For each row, the visible positions as bits.
    pub(super) seen: &'a [u32],
    /// For each row, the largest score so far.
    pub(super) largest: &'a mut [f32],
    /// For each row, the sum of weights so far.
    pub(super) weights: &'a mut [f32],
    /// `queries x width`: weighted values so far.
    pub(super) sums: &'a mut [f32],
}

/// Converts scores to weights: visible scores are scaled, capped (if `cap` is not 0), and become `e^(score - largest so
/// far)`; others become 0. Earlier sums are scaled down accordingly.
pub(super) fn soften(path: Instructions, rows: Softmax<'_>, width: usize, scale: f32, cap: f32) {
    let Softmax { scores, seen, largest, weights, sums } = rows;
    let count = scores.len();
    assert!(width.is_multiple_of(16) && sums.len() == count * width, "sums of whole registers");
    assert!([seen.len(), largest.len(), weights.len()] == [count; 3], "rows differ in number");
    let rows = scores.chunks_mut(ROWS).zip(seen.chunks(ROWS));
    let state = largest.chunks_mut(ROWS).zip(weights.chunks_mut(ROWS));
    for (((scores, seen), (largest, weights)), sums) in
        rows.zip(state).zip(sums.chunks_mut(ROWS * width))
    {
        match path {
            #[cfg(target_arch = "x86_64")]
            // SAFETY: the path was found on this processor; lengths were asserted.
            Instructions::Avx512 if cap == 0.0 => unsafe {
                avx512::soften(scores, seen, scale, largest, weights, sums);
            },
            _ => narrow_soften(path, scores, seen, (scale, cap), largest, weights, sums),
        }
    }
}

on_every_path! {
    fn narrow_soften(
        scores: &mut [[f32; PAGE]],
        seen: &[u32],
        scale_and_cap: (f32, f32),
        largest: &mut [f32],
        weights: &mut [f32],
        sums: &mut [f32],
    ) = plain_soften;
}

fn plain_scores(queries: &[f32], keys: &[f32], length: usize, scores: &mut [[f32; PAGE]]) {
    for (query, scores) in queries.chunks(length).zip(scores) {
        let mut sums = [0f32; PAGE];
        for (query, keys) in query.iter().zip(keys.as_chunks::<PAGE>().0) {
            for (sum, key) in sums.iter_mut().zip(keys) {
                *sum = query.mul_add(*key, *sum);
            }
        }
        *scores = sums;
    }
}

fn plain_gather(
    scores: &[[f32; PAGE]],
    values: &[f32],
    width: usize,
    used: usize,
    sums: &mut [f32],
) {
    for (scores, sums) in scores.iter().zip(sums.chunks_mut(width)) {
        for (score, values) in scores[..used].iter().zip(values.chunks(width)) {
            for (sum, value) in sums.iter_mut().zip(values) {
                *sum = score.mul_add(*value, *sum);
            }
        }
    }
}

#[inline(always)]
fn plain_soften(
    scores: &mut [[f32; PAGE]],
    seen: &[u32],
    scale_and_cap: (f32, f32),
    largest: &mut [f32],
    weights: &mut [f32],
    sums: &mut [f32],
) {
    let width = sums.len() / scores.len();
    for (row, (scores, seen)) in scores.iter_mut().zip(seen).enumerate() {
        let sums = &mut sums[row * width..][..width];
        soften_row(scores, *seen, scale_and_cap, &mut largest[row], &mut weights[row], sums);
    }
}

#[inline(always)]
fn soften_row(
    scores: &mut [f32; PAGE],
    seen: u32,
    (scale, cap): (f32, f32),
    largest_so_far: &mut f32,
    weight: &mut f32,
    sums: &mut [f32],
) {
    if seen == 0 {
        scores.fill(0.0);
        return;
    }
    for score in &mut *scores {
        *score *= scale;
    }
    if cap != 0.0 {
        for score in &mut *scores {
            *score = cap * tanh(*score / cap);
        }
    }
    if seen != u32::MAX {
        for (at, score) in scores.iter_mut().enumerate() {
            *score = if seen >> at & 1 == 1 { *score } else { f32::NEG_INFINITY };
        }
    }
    let before = *largest_so_far;
    let mut largest = [before; 16];
    for half in scores.as_chunks::<16>().0 {
        for (largest, score) in largest.iter_mut().zip(half) {
            *largest = if *score > *largest { *score } else { *largest };
        }
    }
    for apart in [8, 4, 2, 1] {
        for at in 0..apart {
            let other = largest[at + apart];
            largest[at] = if other > largest[at] { other } else { largest[at] };
        }
    }
    let largest = largest[0];
    // If no score is a number, the weights are not numbers either.
    let base = if largest == f32::NEG_INFINITY { 0.0 } else { largest };
    for score in &mut *scores {
        *score = exp(*score - base);
    }
    let mut halves = [0f32; 16];
    for at in 0..16 {
        halves[at] = scores[at] + scores[at + 16];
    }
    *largest_so_far = largest;
    if before == largest {
        // The largest score is the same, so the sums stay.
        *weight += matrix::tree(&halves);
        return;
    }
    let smaller = exp(before - base);
    *weight = *weight * smaller + matrix::tree(&halves);
    for sum in sums {
        *sum *= smaller;
    }
}
