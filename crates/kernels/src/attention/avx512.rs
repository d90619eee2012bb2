//! 512-bit twins of [`super::plain`]: several queries share what is loaded of a page.

use std::arch::x86_64::*;
use std::ops::Range;

use super::PAGE;
use crate::curve;
use crate::matrix::avx512_tree as tree;

/// Queries whose scores, or sums, fill the registers.
const TILE: usize = 8;
/// The same for sums, which take four registers each.
const SUM_TILE: usize = 6;
/// Values of a sum that are computed at a time.
const WIDE: usize = 64;

/// # Safety
/// `queries` has `length` values for each of `scores`, `keys` as many rows of a page's positions.
#[target_feature(enable = "avx512f")]
pub(super) unsafe fn scores(
    queries: &[f32],
    keys: &[f32],
    length: usize,
    scores: &mut [[f32; PAGE]],
) {
    let mut at = 0;
    while at < scores.len() {
        // SAFETY: the tile's queries and scores exist.
        unsafe {
            let queries = queries.as_ptr().add(at * length);
            let out = scores.as_mut_ptr().add(at);
            at += match scores.len() - at {
                1 => score_tile::<1>(queries, keys, length, out),
                2 | 3 => score_tile::<2>(queries, keys, length, out),
                4..TILE => score_tile::<4>(queries, keys, length, out),
                _ => score_tile::<TILE>(queries, keys, length, out),
            };
        }
    }
}

/// Scores of some queries; returns how many.
///
/// # Safety
/// As [`scores`], for so many.
#[target_feature(enable = "avx512f")]
unsafe fn score_tile<const ROWS: usize>(
    queries: *const f32,
    keys: &[f32],
    length: usize,
    out: *mut [f32; PAGE],
) -> usize {
    let mut sums = [[_mm512_setzero_ps(); 2]; ROWS];
    for (at, keys) in keys.as_chunks::<PAGE>().0.iter().enumerate() {
        // SAFETY: `at < length`, and each query has so many values; a row of keys has 32.
        unsafe {
            let low = _mm512_loadu_ps(keys.as_ptr());
            let high = _mm512_loadu_ps(keys.as_ptr().add(16));
            for (row, sums) in sums.iter_mut().enumerate() {
                let query = _mm512_set1_ps(*queries.add(row * length + at));
                sums[0] = _mm512_fmadd_ps(query, low, sums[0]);
                sums[1] = _mm512_fmadd_ps(query, high, sums[1]);
            }
        }
    }
    for (row, sums) in sums.iter().enumerate() {
        // SAFETY: there are so many scores of 32 positions.
        unsafe {
            let out = (*out.add(row)).as_mut_ptr();
            _mm512_storeu_ps(out, sums[0]);
            _mm512_storeu_ps(out.add(16), sums[1]);
        }
    }
    ROWS
}

/// # Safety
/// `values` has `width` (a multiple of 16) values for each position of a page, `sums` for each of
/// `scores`; `used` is at most a page.
#[target_feature(enable = "avx512f")]
pub(super) unsafe fn gather(
    scores: &[[f32; PAGE]],
    values: &[f32],
    width: usize,
    used: usize,
    sums: &mut [f32],
) {
    let mut at = 0;
    while at < scores.len() {
        let left = scores.len() - at;
        let rows = if left >= SUM_TILE {
            SUM_TILE
        } else if left >= 2 {
            2
        } else {
            1
        };
        let mut from = 0;
        while from < width {
            // SAFETY: the tile's rows and columns exist.
            unsafe {
                let scores = scores.as_ptr().add(at);
                let values = values.as_ptr().add(from);
                let sums = sums.as_mut_ptr().add(at * width + from);
                from += match (rows, width - from >= WIDE) {
                    (SUM_TILE, true) => sum_tile::<SUM_TILE, 4>(scores, values, width, used, sums),
                    (2, true) => sum_tile::<2, 4>(scores, values, width, used, sums),
                    (_, true) => sum_tile::<1, 4>(scores, values, width, used, sums),
                    (SUM_TILE, false) => sum_tile::<SUM_TILE, 1>(scores, values, width, used, sums),
                    (2, false) => sum_tile::<2, 1>(scores, values, width, used, sums),
                    (_, false) => sum_tile::<1, 1>(scores, values, width, used, sums),
                };
            }
        }
        at += rows;
    }
}

/// Sums of some queries over some columns; returns how many columns.
///
/// # Safety
/// As [`gather`], for so many rows and registers of columns.
#[target_feature(enable = "avx512f")]
unsafe fn sum_tile<const ROWS: usize, const REGISTERS: usize>(
    scores: *const [f32; PAGE],
    values: *const f32,
    width: usize,
    used: usize,
    sums: *mut f32,
) -> usize {
    // SAFETY: all rows and columns exist, as the caller promises.
    unsafe {
        let mut own = [[_mm512_setzero_ps(); REGISTERS]; ROWS];
        for (row, own) in own.iter_mut().enumerate() {
            for (at, own) in own.iter_mut().enumerate() {
                *own = _mm512_loadu_ps(sums.add(row * width + at * 16));
            }
        }
        for position in 0..used {
            let values: [__m512; REGISTERS] =
                std::array::from_fn(|at| _mm512_loadu_ps(values.add(position * width + at * 16)));
            for (row, own) in own.iter_mut().enumerate() {
                let score = _mm512_set1_ps(*(*scores.add(row)).as_ptr().add(position));
                for (own, value) in own.iter_mut().zip(values) {
                    *own = _mm512_fmadd_ps(score, value, *own);
                }
            }
        }
        for (row, own) in own.iter().enumerate() {
            for (at, own) in own.iter().enumerate() {
                _mm512_storeu_ps(sums.add(row * width + at * 16), *own);
            }
        }
    }
    REGISTERS * 16
}

/// Sixteen times [`curve::exp`], operation by operation.
#[target_feature(enable = "avx512f")]
#[inline]
fn exp(x: __m512) -> __m512 {
    let all = |value: f32| _mm512_set1_ps(value);
    // Of two numbers the second where one is none.
    let x = _mm512_min_ps(all(curve::MOST), x);
    let rounded = _mm512_fmadd_ps(x, all(std::f32::consts::LOG2_E), all(curve::ROUNDING));
    let n = _mm512_sub_ps(rounded, all(curve::ROUNDING));
    let r = _mm512_fmadd_ps(n, all(-curve::LN_2_HIGH), x);
    let r = _mm512_fmadd_ps(n, all(-curve::LN_2_LOW), r);
    let mut power = all(curve::POWERS[0]);
    for coefficient in &curve::POWERS[1..] {
        power = _mm512_fmadd_ps(r, power, all(*coefficient));
    }
    let exponent = _mm512_slli_epi32::<23>(_mm512_castps_si512(rounded));
    let scale = _mm512_add_epi32(exponent, _mm512_castps_si512(all(1.0)));
    let result = _mm512_mul_ps(power, _mm512_castsi512_ps(scale));
    let is_there = _mm512_cmp_ps_mask::<_CMP_NLT_UQ>(x, all(curve::LEAST));
    _mm512_maskz_mov_ps(is_there, result)
}

/// As `plain_soften`, without a cap.
///
/// # Safety
/// `sums` has whole registers.
#[target_feature(enable = "avx512f,avx512dq,avx512vl")]
pub(super) unsafe fn soften(
    scores: &mut [f32; PAGE],
    seen: Range<usize>,
    scale: f32,
    state: &mut (f32, f32),
    sums: &mut [f32],
) {
    let (before, weight) = *state;
    let seen = (u64::MAX >> (64 - (seen.end - seen.start)) << seen.start) as u32;
    // SAFETY: a page has 32 scores, and the caller promises whole registers of sums.
    unsafe {
        let none = _mm512_set1_ps(f32::NEG_INFINITY);
        let half = |at: usize| {
            let scores = _mm512_loadu_ps(scores.as_ptr().add(at * 16));
            let seen = (seen >> (at * 16)) as u16;
            _mm512_mask_mul_ps(none, seen, scores, _mm512_set1_ps(scale))
        };
        let (low, high) = (half(0), half(1));
        // What is no number does not count: the first of two where the second is none.
        let largest = _mm512_max_ps(high, _mm512_max_ps(low, _mm512_set1_ps(before)));
        let largest = _mm512_reduce_max_ps(largest);
        let base = if largest == f32::NEG_INFINITY { 0.0 } else { largest };
        let base_of_all = _mm512_set1_ps(base);
        let (low, high) =
            (exp(_mm512_sub_ps(low, base_of_all)), exp(_mm512_sub_ps(high, base_of_all)));
        _mm512_storeu_ps(scores.as_mut_ptr(), low);
        _mm512_storeu_ps(scores.as_mut_ptr().add(16), high);
        // Nothing is smaller where the largest stayed: then what was summed stays as it is.
        let smaller = if before == largest { 1.0 } else { curve::exp(before - base) };
        *state = (largest, weight * smaller + tree(_mm512_add_ps(low, high)));
        if smaller.to_bits() != 1.0f32.to_bits() {
            let smaller = _mm512_set1_ps(smaller);
            for at in (0..sums.len()).step_by(16) {
                let place = sums.as_mut_ptr().add(at);
                _mm512_storeu_ps(place, _mm512_mul_ps(_mm512_loadu_ps(place), smaller));
            }
        }
    }
}
