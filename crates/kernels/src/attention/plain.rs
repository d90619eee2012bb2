//! Scores, softmax and weighted sums of a page. The plain bodies are the specification.

use std::ops::Range;

use super::PAGE;
#[cfg(target_arch = "x86_64")]
use super::avx512;
use crate::curve::{exp, tanh};
use crate::on_every_path;
use crate::{Path, matrix};

/// `scores[query][position] = keys[.][position] . query`; `queries` is `queries x length`, `keys` is
/// `length x positions`.
pub(super) fn scores(
    path: Path,
    queries: &[f32],
    keys: &[f32],
    length: usize,
    scores: &mut [[f32; PAGE]],
) {
    assert_eq!(queries.len(), scores.len() * length, "queries and scores differ");
    assert_eq!(keys.len(), length * PAGE, "keys and queries differ");
    match path {
        // SAFETY: the path was found on this processor; lengths were asserted.
        #[cfg(target_arch = "x86_64")]
        Path::Avx512 => unsafe { avx512::scores(queries, keys, length, scores) },
        _ => narrow_scores(path, queries, keys, length, scores),
    }
}

/// `sums[query] += scores[query][position] * values[position]` for the first `used` positions; rows of
/// values and sums are `width` long, a multiple of 16.
pub(super) fn gather(
    path: Path,
    scores: &[[f32; PAGE]],
    values: &[f32],
    width: usize,
    used: usize,
    sums: &mut [f32],
) {
    assert!(width.is_multiple_of(16) && used <= PAGE && values.len() == width * PAGE);
    assert_eq!(sums.len(), scores.len() * width, "scores and sums differ");
    match path {
        // SAFETY: the path was found on this processor; lengths were asserted.
        #[cfg(target_arch = "x86_64")]
        Path::Avx512 => unsafe { avx512::gather(scores, values, width, used, sums) },
        _ => narrow_gather(path, scores, values, width, used, sums),
    }
}

/// Turns scores into weights: those seen are scaled, capped (where `cap` is not 0), and put to the power of
/// `e`, less the largest so far; those not seen are 0. What was summed before is made smaller accordingly.
pub(super) fn soften(
    path: Path,
    scores: &mut [f32; PAGE],
    seen: Range<usize>,
    scale: f32,
    cap: f32,
    state: &mut (f32, f32),
    sums: &mut [f32],
) {
    assert!(seen.end <= PAGE && sums.len().is_multiple_of(16), "what is seen is of the page");
    if seen.is_empty() {
        scores.fill(0.0);
        return;
    }
    match path {
        // SAFETY: the path was found on this processor; lengths were asserted.
        #[cfg(target_arch = "x86_64")]
        Path::Avx512 if cap == 0.0 => unsafe { avx512::soften(scores, seen, scale, state, sums) },
        _ => narrow_soften(path, scores, seen, scale, cap, state, sums),
    }
}

on_every_path! {
    fn narrow_scores(
        queries: &[f32],
        keys: &[f32],
        length: usize,
        scores: &mut [[f32; PAGE]],
    ) = plain_scores;
    fn narrow_gather(
        scores: &[[f32; PAGE]],
        values: &[f32],
        width: usize,
        used: usize,
        sums: &mut [f32],
    ) = plain_gather;
    fn narrow_soften(
        scores: &mut [f32; PAGE],
        seen: Range<usize>,
        scale: f32,
        cap: f32,
        state: &mut (f32, f32),
        sums: &mut [f32],
    ) = plain_soften;
}

#[inline(always)]
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

#[inline(always)]
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
    scores: &mut [f32; PAGE],
    seen: Range<usize>,
    scale: f32,
    cap: f32,
    state: &mut (f32, f32),
    sums: &mut [f32],
) {
    for score in &mut *scores {
        *score *= scale;
    }
    if cap != 0.0 {
        for score in &mut *scores {
            *score = cap * tanh(*score / cap);
        }
    }
    if seen != (0..PAGE) {
        for (at, score) in scores.iter_mut().enumerate() {
            let is_seen = at >= seen.start && at < seen.end;
            *score = if is_seen { *score } else { f32::NEG_INFINITY };
        }
    }
    let (before, weight) = *state;
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
    // Nothing seen, or nothing but what is no number: weights are then no numbers either.
    let base = if largest == f32::NEG_INFINITY { 0.0 } else { largest };
    for score in &mut *scores {
        *score = exp(*score - base);
    }
    let mut halves = [0f32; 16];
    for at in 0..16 {
        halves[at] = scores[at] + scores[at + 16];
    }
    let smaller = exp(before - base);
    *state = (largest, weight * smaller + matrix::tree(&halves));
    for sum in sums {
        *sum *= smaller;
    }
}
