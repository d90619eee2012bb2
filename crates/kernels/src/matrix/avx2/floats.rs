//! Float weights: row by row, or in tiles whose partial sums stay in registers.

use std::arch::x86_64::*;
use std::ops::Range;

use half::f16;

use crate::matrix::floats::{Brain, Half, Single};
use crate::matrix::{PARTIALS, tree};
use crate::sixteen::Sixteen;
use crate::team::Results;

/// Number of rows of a panel. Larger panels read the activations less often.
pub(in crate::matrix) const ROWS: usize = 24;
/// Number of tokens of a tile.
pub(in crate::matrix) const TOKENS: usize = 4;
/// Number of rows of a tile.
const TILE_ROWS: usize = 3;
/// Most values of a token that are multiplied at a time, so that those of a tile stay in the L1 cache.
const STRETCH: usize = 768;
/// Number of floats of a register: half of the partial sums.
const EIGHT: usize = 8;

/// Conversion of stored values to floats.
pub(in crate::matrix) trait Eights {
    /// Bytes of a value.
    const BYTES: usize;

    /// Loads eight values.
    ///
    /// # Safety
    /// Eight values can be read, and the processor has the instructions.
    unsafe fn load(stored: *const u8) -> __m256;

    /// Loads one value.
    ///
    /// # Safety
    /// The value can be read.
    unsafe fn value(stored: *const u8) -> f32;
}

impl Eights for Single {
    const BYTES: usize = 4;

    #[inline]
    #[target_feature(enable = "avx2,fma,f16c")]
    unsafe fn load(stored: *const u8) -> __m256 {
        // SAFETY: the caller promises eight values and the instructions.
        unsafe { _mm256_loadu_ps(stored.cast()) }
    }

    #[inline(always)]
    unsafe fn value(stored: *const u8) -> f32 {
        // SAFETY: the caller promises the bytes of a value.
        f32::from_le_bytes(unsafe { stored.cast::<[u8; 4]>().read() })
    }
}

impl Eights for Half {
    const BYTES: usize = 2;

    #[inline]
    #[target_feature(enable = "avx2,fma,f16c")]
    unsafe fn load(stored: *const u8) -> __m256 {
        // SAFETY: as above.
        unsafe { _mm256_cvtph_ps(_mm_loadu_si128(stored.cast())) }
    }

    #[inline(always)]
    unsafe fn value(stored: *const u8) -> f32 {
        // SAFETY: as above.
        f16::from_le_bytes(unsafe { stored.cast::<[u8; 2]>().read() }).to_f32()
    }
}

impl Eights for Brain {
    const BYTES: usize = 2;

    #[inline]
    #[target_feature(enable = "avx2,fma,f16c")]
    unsafe fn load(stored: *const u8) -> __m256 {
        // SAFETY: as above. BF16 is the upper half of a float.
        let halves = unsafe { _mm_loadu_si128(stored.cast()) };
        _mm256_castsi256_ps(_mm256_slli_epi32::<16>(_mm256_cvtepu16_epi32(halves)))
    }

    #[inline(always)]
    unsafe fn value(stored: *const u8) -> f32 {
        // SAFETY: as above.
        let bits = u16::from_le_bytes(unsafe { stored.cast::<[u8; 2]>().read() });
        f32::from_bits(u32::from(bits) << 16)
    }
}

/// The largest multiple of sixteen up to `columns`: that many values fill all partial sums equally often.
fn whole(columns: usize) -> usize {
    columns / PARTIALS * PARTIALS
}

/// Multiplies a row by a token.
///
/// # Safety
/// The row has as many values as `x`.
#[target_feature(enable = "avx2,fma,f16c")]
pub(in crate::matrix) unsafe fn row<F: Eights>(row: &[u8], x: &[f32]) -> f32 {
    let mut partials = [_mm256_setzero_ps(); 2];
    let mut sums = Sixteen::default();
    // SAFETY: the row and the token have sixteen values at each offset; there are two times eight sums.
    unsafe {
        for at in (0..whole(x.len())).step_by(PARTIALS) {
            for (half, partial) in partials.iter_mut().enumerate() {
                let at = at + half * EIGHT;
                let weights = F::load(row.as_ptr().add(at * F::BYTES));
                *partial = _mm256_fmadd_ps(weights, _mm256_loadu_ps(x.as_ptr().add(at)), *partial);
            }
        }
        for (half, partial) in partials.into_iter().enumerate() {
            _mm256_store_ps(sums.0.as_mut_ptr().add(half * EIGHT), partial);
        }
        finish::<F>(&mut sums, row.as_ptr(), x)
    }
}

/// Adds the rest of a row to the partial sums, and adds these up.
///
/// # Safety
/// The row has as many values as `x`.
#[inline]
#[target_feature(enable = "avx2,fma,f16c")]
unsafe fn finish<F: Eights>(Sixteen(sums): &mut Sixteen, row: *const u8, x: &[f32]) -> f32 {
    let whole = whole(x.len());
    for (at, (value, sum)) in x[whole..].iter().zip(&mut *sums).enumerate() {
        // SAFETY: the row has as many values as the token.
        let weight = unsafe { F::value(row.add((whole + at) * F::BYTES)) };
        *sum = weight.mul_add(*value, *sum);
    }
    tree(sums)
}

/// Multiplies the rows of a panel by tokens of equal length.
///
/// # Safety
/// `rows` has the rows of `out`, at most [`ROWS`]; `x` has the tokens of `out`.
#[target_feature(enable = "avx2,fma,f16c")]
pub(in crate::matrix) unsafe fn multiply<F: Eights>(rows: &[u8], x: &[f32], out: &Results<'_>) {
    let columns = x.len() / out.tokens();
    let block = Block::<F> { rows, x, columns, floats: std::marker::PhantomData };
    let whole = whole(columns);
    let stretch = whole.div_ceil(whole.div_ceil(STRETCH).max(1)).next_multiple_of(PARTIALS);
    for token in (0..out.tokens()).step_by(TOKENS) {
        let mut sums = [[Sixteen::default(); TOKENS]; ROWS];
        let sums = &mut sums[..out.rows()];
        let tokens = TOKENS.min(out.tokens() - token);
        for first in (0..whole).step_by(stretch.max(PARTIALS)) {
            let values = first..whole.min(first + stretch);
            // SAFETY: these rows and tokens exist, as the caller promises.
            unsafe {
                match tokens {
                    1 => block.pass::<1>(token, values, sums),
                    2 => block.pass::<2>(token, values, sums),
                    3 => block.pass::<3>(token, values, sums),
                    _ => block.pass::<TOKENS>(token, values, sums),
                }
            }
        }
        for (at, sums) in sums.iter_mut().enumerate() {
            let row = rows.as_ptr().wrapping_add(at * columns * F::BYTES);
            for (token, sums) in (token..token + tokens).zip(sums) {
                // SAFETY: as above; there is room for their results.
                unsafe {
                    let result = finish::<F>(sums, row, &x[token * columns..][..columns]);
                    out.at(token, at).0.write(result);
                }
            }
        }
    }
}

/// A panel and the tokens that it is multiplied by.
struct Block<'a, F> {
    rows: &'a [u8],
    x: &'a [f32],
    columns: usize,
    floats: std::marker::PhantomData<F>,
}

impl<F: Eights> Block<'_, F> {
    /// Multiplies a range of columns of all rows by some tokens, for each half of the partial sums.
    ///
    /// # Safety
    /// As [`Self::tile`], for all rows that have sums.
    #[target_feature(enable = "avx2,fma,f16c")]
    unsafe fn pass<const TOKENS: usize>(
        &self,
        token: usize,
        values: Range<usize>,
        sums: &mut [[Sixteen; self::TOKENS]],
    ) {
        let mut row = 0;
        while row < sums.len() {
            let own = &mut sums[row..];
            // SAFETY: these rows exist, and these tokens as the caller promises.
            row += unsafe {
                if own.len() >= TILE_ROWS {
                    self.tile::<TILE_ROWS, TOKENS>(row, token, &values, 0, own);
                    self.tile::<TILE_ROWS, TOKENS>(row, token, &values, EIGHT, own)
                } else {
                    self.tile::<1, TOKENS>(row, token, &values, 0, own);
                    self.tile::<1, TOKENS>(row, token, &values, EIGHT, own)
                }
            };
        }
    }

    /// Multiplies some rows by some tokens, eight of each sixteen values; returns the number of rows.
    ///
    /// # Safety
    /// There are that many rows, with sums, and tokens; they have these columns, whose number is a multiple of sixteen.
    #[inline]
    #[target_feature(enable = "avx2,fma,f16c")]
    unsafe fn tile<const ROWS: usize, const TOKENS: usize>(
        &self,
        row: usize,
        token: usize,
        values: &Range<usize>,
        half: usize,
        sums: &mut [[Sixteen; self::TOKENS]],
    ) -> usize {
        let columns = self.columns;
        let mut partials = [[_mm256_setzero_ps(); TOKENS]; ROWS];
        // SAFETY: as the caller promises; sixteen sums have two halves of eight.
        unsafe {
            for (partials, sums) in partials.iter_mut().zip(&*sums) {
                for (partial, sums) in partials.iter_mut().zip(sums) {
                    *partial = _mm256_load_ps(sums.0.as_ptr().add(half));
                }
            }
            let rows = self.rows.as_ptr().add(row * columns * F::BYTES);
            let x = self.x.as_ptr().add(token * columns);
            let mut at = values.start + half;
            while at < values.end {
                let weights: [__m256; ROWS] =
                    std::array::from_fn(|row| F::load(rows.add((row * columns + at) * F::BYTES)));
                for token in 0..TOKENS {
                    let x = _mm256_loadu_ps(x.add(token * columns + at));
                    for (partials, weights) in partials.iter_mut().zip(weights) {
                        partials[token] = _mm256_fmadd_ps(weights, x, partials[token]);
                    }
                }
                at += PARTIALS;
            }
            for (partials, sums) in partials.iter().zip(sums) {
                for (partial, sums) in partials.iter().zip(sums) {
                    _mm256_store_ps(sums.0.as_mut_ptr().add(half), *partial);
                }
            }
        }
        ROWS
    }
}

const _: () = assert!(PARTIALS == 2 * EIGHT);
