//! Attention with AVX-512, bit for bit equal to [`super::plain`]. Several queries share each load of a page.

use std::arch::x86_64::*;

use super::PAGE;
use super::plain::ROWS;
use crate::curve;
use crate::matrix::Floats;
use crate::prefetch::Parts;

/// Number of queries whose scores or sums fill the registers.
const TILE: usize = 8;

/// Computes the scores of all positions of a page; prefetches the next keys.
///
/// # Safety
/// `queries` has `length` values for each of `scores`, `keys` as many rows of a page's positions.
#[target_feature(enable = "avx512f,avx512bw,avx512dq,avx512vl,avx2,fma,f16c")]
pub(super) unsafe fn scores<F: Floats>(
    queries: &[f32],
    keys: &[u8],
    length: usize,
    scores: &mut [[f32; PAGE]],
    next: &[u8],
) {
    let next = Parts::of(next, length, keys);
    let mut at = 0;
    while at < scores.len() {
        // SAFETY: the tile's queries and scores exist.
        unsafe {
            let queries = queries.as_ptr().add(at * length);
            let out = scores.as_mut_ptr().add(at);
            let keys = keys.as_ptr();
            at += match scores.len() - at {
                1 => score_tile::<F, 1>(queries, keys, length, out, next),
                2 | 3 => score_tile::<F, 2>(queries, keys, length, out, next),
                4..TILE => score_tile::<F, 4>(queries, keys, length, out, next),
                _ => score_tile::<F, TILE>(queries, keys, length, out, next),
            };
        }
    }
}

/// Computes the scores of `ROWS` queries; returns their number.
///
/// # Safety
/// As [`scores`], for these queries.
#[target_feature(enable = "avx512f,avx512bw,avx512dq,avx512vl,avx2,fma,f16c")]
unsafe fn score_tile<F: Floats, const ROWS: usize>(
    queries: *const f32,
    keys: *const u8,
    length: usize,
    out: *mut [f32; PAGE],
    next: Parts,
) -> usize {
    let mut sums = [[_mm512_setzero_ps(); 2]; ROWS];
    let mut add = |at: usize| {
        next.fetch(at, 0);
        // SAFETY: each query has `length` values; a row of keys has 32.
        unsafe {
            let low = F::load(keys.add(at * PAGE * F::BYTES));
            let high = F::load(keys.add((at * PAGE + 16) * F::BYTES));
            for (row, sums) in sums.iter_mut().enumerate() {
                let query = _mm512_set1_ps(*queries.add(row * length + at));
                sums[0] = _mm512_fmadd_ps(query, low, sums[0]);
                sums[1] = _mm512_fmadd_ps(query, high, sums[1]);
            }
        }
    };
    for at in (0..length / 2 * 2).step_by(2) {
        add(at);
        add(at + 1);
    }
    if length % 2 == 1 {
        add(length - 1);
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

/// Adds weighted values of a page to the sums; prefetches the next values.
///
/// # Safety
/// `values` has `width` (a multiple of 16) values for each position of a page that is `used`, `sums` for
/// each of `scores`; `used` is at most a page.
#[target_feature(enable = "avx512f,avx512bw,avx512dq,avx512vl,avx2,fma,f16c")]
pub(super) unsafe fn gather<F: Floats>(
    scores: &[[f32; PAGE]],
    values: &[u8],
    width: usize,
    used: usize,
    sums: &mut [f32],
    next: &[u8],
) {
    let next = Parts::of(next, used, values);
    let mut at = 0;
    while at < scores.len() {
        let rows = [TILE, 4, 2, 1].into_iter().find(|rows| at + rows <= scores.len()).unwrap_or(1);
        let mut from = 0;
        while from < width {
            // SAFETY: the tile's rows and columns exist.
            unsafe {
                let tile = SumTile {
                    scores: scores.as_ptr().add(at),
                    values: values.as_ptr().add(from * F::BYTES),
                    width,
                    used,
                    sums: sums.as_mut_ptr().add(at * width + from),
                    next,
                    next_from: from * next.length() / width,
                };
                let left = width - from;
                from += match rows {
                    TILE if left >= 32 => tile.add::<F, TILE, 2>(),
                    TILE => tile.add::<F, TILE, 1>(),
                    4 if left >= 64 => tile.add::<F, 4, 4>(),
                    4 => tile.add::<F, 4, 1>(),
                    2 if left >= 64 => tile.add::<F, 2, 4>(),
                    2 => tile.add::<F, 2, 1>(),
                    _ if left >= 64 => tile.add::<F, 1, 4>(),
                    _ => tile.add::<F, 1, 1>(),
                };
            }
        }
        at += rows;
    }
}

/// Sums of some queries over some columns.
struct SumTile {
    scores: *const [f32; PAGE],
    values: *const u8,
    width: usize,
    used: usize,
    sums: *mut f32,
    next: Parts,
    /// Offset of these columns in a position of the next values.
    next_from: usize,
}

impl SumTile {
    /// Adds to `ROWS` rows and `REGISTERS` registers of columns; returns the number of columns.
    ///
    /// # Safety
    /// As [`gather`], for these rows and columns.
    #[target_feature(enable = "avx512f,avx512bw,avx512dq,avx512vl,avx2,fma,f16c")]
    unsafe fn add<F: Floats, const ROWS: usize, const REGISTERS: usize>(&self) -> usize {
        let Self { scores, values, width, used, sums, next, next_from } = *self;
        // SAFETY: all rows and columns exist, as the caller promises.
        unsafe {
            let mut own = [[_mm512_setzero_ps(); REGISTERS]; ROWS];
            for (row, own) in own.iter_mut().enumerate() {
                for (at, own) in own.iter_mut().enumerate() {
                    *own = _mm512_loadu_ps(sums.add(row * width + at * 16));
                }
            }
            let mut add = |position: usize| {
                next.fetch(position, next_from);
                let values = values.add(position * width * F::BYTES);
                let values: [__m512; REGISTERS] =
                    std::array::from_fn(|at| F::load(values.add(at * 16 * F::BYTES)));
                for (row, own) in own.iter_mut().enumerate() {
                    let score = _mm512_set1_ps(*(*scores.add(row)).as_ptr().add(position));
                    for (own, value) in own.iter_mut().zip(values) {
                        *own = _mm512_fmadd_ps(score, value, *own);
                    }
                }
            };
            for position in (0..used / 2 * 2).step_by(2) {
                add(position);
                add(position + 1);
            }
            if used % 2 == 1 {
                add(used - 1);
            }
            for (row, own) in own.iter().enumerate() {
                for (at, own) in own.iter().enumerate() {
                    _mm512_storeu_ps(sums.add(row * width + at * 16), *own);
                }
            }
        }
        REGISTERS * 16
    }
}

/// [`curve::exp`] of sixteen numbers, with the same operations.
#[target_feature(enable = "avx512f")]
#[inline]
fn exp(x: __m512) -> __m512 {
    let all = |value: f32| _mm512_set1_ps(value);
    // If one is NaN, the result is the second one.
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

/// A matrix of 16 x 16 numbers.
#[repr(C, align(64))]
struct Square([[f32; 16]; ROWS]);

impl Square {
    fn row(&mut self, row: usize) -> *mut f32 {
        self.0[row].as_mut_ptr()
    }

    /// For each row its sum, in the order of the tree, or its largest number.
    #[target_feature(enable = "avx512f")]
    #[inline]
    fn trees<const SUMS: bool>(&self) -> __m512 {
        let both = |a, b| if SUMS { _mm512_add_ps(a, b) } else { _mm512_max_ps(a, b) };
        // SAFETY: a row has sixteen numbers and is aligned to lines.
        let row = |at: usize| unsafe { _mm512_load_ps(self.0[at].as_ptr()) };
        // Eight apart: of two rows, one in each half of a register.
        let eight = |a: usize, b: usize| {
            let (a, b) = (row(a), row(b));
            both(_mm512_shuffle_f32x4::<0x44>(a, b), _mm512_shuffle_f32x4::<0xEE>(a, b))
        };
        // Four apart: of every fourth row, one in each quarter.
        let four = |at: usize| {
            let (a, b) = (eight(at, at + 4), eight(at + 8, at + 12));
            both(_mm512_shuffle_f32x4::<0x88>(a, b), _mm512_shuffle_f32x4::<0xDD>(a, b))
        };
        // Two apart: of two rows in each quarter.
        let two = |at: usize| {
            let (a, b) = (four(at), four(at + 1));
            both(_mm512_shuffle_ps::<0x44>(a, b), _mm512_shuffle_ps::<0xEE>(a, b))
        };
        let (a, b) = (two(0), two(2));
        both(_mm512_shuffle_ps::<0x88>(a, b), _mm512_shuffle_ps::<0xDD>(a, b))
    }
}

/// As `plain_soften` of up to sixteen rows, without a cap.
///
/// # Safety
/// All slices are as long as `scores`, but `sums`, which has the same number of whole registers for each.
#[target_feature(enable = "avx512f,avx512dq,avx512vl")]
pub(super) unsafe fn soften(
    scores: &mut [[f32; PAGE]],
    seen: &[u32],
    scale: f32,
    largest: &mut [f32],
    weights: &mut [f32],
    sums: &mut [f32],
) {
    let mut square = Square([[0.0; 16]; ROWS]);
    let rows = scores.len();
    #[expect(clippy::cast_possible_truncation, reason = "up to sixteen rows")]
    let there = ((1_u32 << rows) - 1) as u16;
    // SAFETY: a page has 32 scores, a row of the square sixteen numbers, and the caller promises the rest;
    // what is not there is neither read nor written.
    unsafe {
        let none = _mm512_set1_ps(f32::NEG_INFINITY);
        for (row, (scores, seen)) in scores.iter_mut().zip(seen).enumerate() {
            let scores = scores.as_mut_ptr();
            let half = |at: usize| {
                let seen = (seen >> (at * 16)) as u16;
                let scaled =
                    _mm512_mul_ps(_mm512_loadu_ps(scores.add(at * 16)), _mm512_set1_ps(scale));
                _mm512_mask_mov_ps(none, seen, scaled)
            };
            let (low, high) = (half(0), half(1));
            _mm512_storeu_ps(scores, low);
            _mm512_storeu_ps(scores.add(16), high);
            // NaN does not count: if the second is NaN, the result is the first one.
            let most = _mm512_max_ps(high, _mm512_max_ps(low, none));
            _mm512_store_ps(square.row(row), most);
        }
        let before = _mm512_maskz_loadu_ps(there, largest.as_ptr());
        let now = _mm512_max_ps(square.trees::<false>(), before);
        let nothing = _mm512_cmp_ps_mask::<_CMP_EQ_OQ>(now, none);
        let base = _mm512_mask_mov_ps(now, nothing, _mm512_setzero_ps());
        // If the largest score is the same, the sums stay unchanged.
        let same = _mm512_cmp_ps_mask::<_CMP_EQ_OQ>(before, now);
        let one = _mm512_set1_ps(1.0);
        let smaller = _mm512_mask_mov_ps(exp(_mm512_sub_ps(before, base)), same, one);
        _mm512_mask_storeu_ps(largest.as_mut_ptr(), there, now);
        let mut bases = [0.0; ROWS];
        _mm512_storeu_ps(bases.as_mut_ptr(), base);
        for (row, (scores, base)) in scores.iter_mut().zip(bases).enumerate() {
            let (scores, base) = (scores.as_mut_ptr(), _mm512_set1_ps(base));
            let low = exp(_mm512_sub_ps(_mm512_loadu_ps(scores), base));
            let high = exp(_mm512_sub_ps(_mm512_loadu_ps(scores.add(16)), base));
            _mm512_storeu_ps(scores, low);
            _mm512_storeu_ps(scores.add(16), high);
            _mm512_store_ps(square.row(row), _mm512_add_ps(low, high));
        }
        let sum = square.trees::<true>();
        let weight = _mm512_mul_ps(_mm512_maskz_loadu_ps(there, weights.as_ptr()), smaller);
        _mm512_mask_storeu_ps(weights.as_mut_ptr(), there, _mm512_add_ps(weight, sum));
        let mut factors = [0.0; ROWS];
        _mm512_storeu_ps(factors.as_mut_ptr(), smaller);
        make_smaller(&factors[..rows], there & !same, sums);
    }
}

/// Scales down the rows of sums whose largest score has changed.
#[target_feature(enable = "avx512f")]
#[inline]
fn make_smaller(factors: &[f32], changed: u16, sums: &mut [f32]) {
    if changed == 0 {
        return;
    }
    let width = sums.len() / factors.len();
    for (row, (factor, sums)) in factors.iter().zip(sums.chunks_exact_mut(width)).enumerate() {
        if changed >> row & 1 == 1 {
            for sums in sums.as_chunks_mut::<16>().0 {
                // SAFETY: sixteen numbers.
                unsafe {
                    let place = sums.as_mut_ptr();
                    let smaller = _mm512_mul_ps(_mm512_loadu_ps(place), _mm512_set1_ps(*factor));
                    _mm512_storeu_ps(place, smaller);
                }
            }
        }
    }
}
