//! Attention with AVX2, bit for bit equal to [`super::plain`]. Several queries share each load of a page.

use std::arch::x86_64::*;

use super::PAGE;

/// Queries whose scores, or sums, fill the registers with half a page's positions, or sixteen values.
const TILE: usize = 4;
/// Number of floats in two registers.
const PAIR: usize = 16;

/// Number of queries of `left` that are computed together.
fn together(left: usize) -> usize {
    match left {
        1 => 1,
        2 | 3 => 2,
        _ => TILE,
    }
}

/// Computes the scores of all positions of a page.
///
/// # Safety
/// `queries` has `length` values for each of `scores`, `keys` as many rows of a page's positions.
#[target_feature(enable = "avx2,fma,f16c")]
pub(super) unsafe fn scores(
    queries: &[f32],
    keys: &[f32],
    length: usize,
    scores: &mut [[f32; PAGE]],
) {
    let mut at = 0;
    while at < scores.len() {
        let rows = together(scores.len() - at);
        for half in [0, PAIR] {
            // SAFETY: the tile's queries, keys and scores exist.
            unsafe {
                let queries = queries.as_ptr().add(at * length);
                let keys = keys.as_ptr().add(half);
                let out = scores.as_mut_ptr().add(at).cast::<f32>().add(half);
                match rows {
                    1 => score_tile::<1>(queries, keys, length, out),
                    2 => score_tile::<2>(queries, keys, length, out),
                    _ => score_tile::<TILE>(queries, keys, length, out),
                }
            }
        }
        at += rows;
    }
}

/// Computes the scores of some queries and sixteen positions.
///
/// # Safety
/// As [`scores`], for these queries and positions.
#[target_feature(enable = "avx2,fma,f16c")]
#[inline]
unsafe fn score_tile<const ROWS: usize>(
    queries: *const f32,
    keys: *const f32,
    length: usize,
    out: *mut f32,
) {
    let mut sums = [[_mm256_setzero_ps(); 2]; ROWS];
    for at in 0..length {
        // SAFETY: each query has `length` values; a row of keys goes on for 32 positions.
        unsafe {
            let keys = keys.add(at * PAGE);
            let (low, high) = (_mm256_loadu_ps(keys), _mm256_loadu_ps(keys.add(8)));
            for (row, sums) in sums.iter_mut().enumerate() {
                let query = _mm256_broadcast_ss(&*queries.add(row * length + at));
                sums[0] = _mm256_fmadd_ps(query, low, sums[0]);
                sums[1] = _mm256_fmadd_ps(query, high, sums[1]);
            }
        }
    }
    for (row, sums) in sums.iter().enumerate() {
        // SAFETY: there are so many scores of a page's positions.
        unsafe {
            _mm256_storeu_ps(out.add(row * PAGE), sums[0]);
            _mm256_storeu_ps(out.add(row * PAGE + 8), sums[1]);
        }
    }
}

/// Adds weighted values of a page to the sums.
///
/// # Safety
/// `values` has `width` (a multiple of 16) values for each position of a page that is `used`, `sums` for
/// each of `scores`; `used` is at most a page.
#[target_feature(enable = "avx2,fma,f16c")]
pub(super) unsafe fn gather(
    scores: &[[f32; PAGE]],
    values: &[f32],
    width: usize,
    used: usize,
    sums: &mut [f32],
) {
    let mut at = 0;
    while at < scores.len() {
        let rows = together(scores.len() - at);
        for from in (0..width).step_by(PAIR) {
            // SAFETY: the tile's scores, values and sums exist.
            unsafe {
                let scores = scores.as_ptr().add(at);
                let values = values.as_ptr().add(from);
                let sums = sums.as_mut_ptr().add(at * width + from);
                match rows {
                    1 => sum_tile::<1>(scores, values, (width, used), sums),
                    2 => sum_tile::<2>(scores, values, (width, used), sums),
                    _ => sum_tile::<TILE>(scores, values, (width, used), sums),
                }
            }
        }
        at += rows;
    }
}

/// Adds sixteen weighted values of some positions to the sums of some queries.
///
/// # Safety
/// As [`gather`], for these queries and values.
#[target_feature(enable = "avx2,fma,f16c")]
#[inline]
unsafe fn sum_tile<const ROWS: usize>(
    scores: *const [f32; PAGE],
    values: *const f32,
    (width, used): (usize, usize),
    sums: *mut f32,
) {
    // SAFETY: there are sixteen sums from here on for each query, and as many values for each position that is
    // used, of which a query has scores.
    unsafe {
        let mut all: [[__m256; 2]; ROWS] = std::array::from_fn(|row| {
            let sums = sums.add(row * width);
            [_mm256_loadu_ps(sums), _mm256_loadu_ps(sums.add(8))]
        });
        for position in 0..used {
            let values = values.add(position * width);
            let (low, high) = (_mm256_loadu_ps(values), _mm256_loadu_ps(values.add(8)));
            for (row, all) in all.iter_mut().enumerate() {
                let score = _mm256_broadcast_ss(&(*scores.add(row))[position]);
                all[0] = _mm256_fmadd_ps(score, low, all[0]);
                all[1] = _mm256_fmadd_ps(score, high, all[1]);
            }
        }
        for (row, all) in all.iter().enumerate() {
            _mm256_storeu_ps(sums.add(row * width), all[0]);
            _mm256_storeu_ps(sums.add(row * width + 8), all[1]);
        }
    }
}
