//! Float weights times activations of several tokens, in tiles whose partial sums stay in registers.

use std::arch::x86_64::*;
use std::ops::Range;

use super::{TILE_ROWS, put_results, tree, trees};
use crate::matrix::activations::{FLOAT_TOKENS, FloatTiles};
use crate::matrix::floats::{Brain, Half, Single};
use crate::sixteen::{REGISTER, Sixteen};
use crate::team::Results;

/// Number of rows of a panel. Larger panels read the activations less often.
pub(in crate::matrix) const ROWS: usize = 32;
/// Most lines of a token that are multiplied at a time, so that those of a tile stay in the L1 cache.
const STRETCH: usize = 48;
/// Number of rows of a tile of a single token: enough independent sums to hide the latency of an addition.
const ROWS_OF_ONE: usize = 8;

/// Conversion of stored values to floats.
pub(crate) trait Floats {
    /// Bytes of a value.
    const BYTES: usize;

    /// Loads sixteen values.
    ///
    /// # Safety
    /// Sixteen values can be read, and the processor has the instructions.
    unsafe fn load(stored: *const u8) -> __m512;

    /// Loads those of sixteen values whose bit in `chosen` is set; the others are zero.
    ///
    /// # Safety
    /// The chosen values can be read, and the processor has the instructions.
    unsafe fn load_some(stored: *const u8, chosen: u16) -> __m512;
}

impl Floats for Single {
    const BYTES: usize = 4;

    #[inline]
    #[target_feature(enable = "avx512f,avx512bw,avx512dq,avx512vl,avx2,fma,f16c")]
    unsafe fn load(stored: *const u8) -> __m512 {
        // SAFETY: the caller promises sixteen values and the instructions.
        unsafe { _mm512_loadu_ps(stored.cast()) }
    }

    #[inline]
    #[target_feature(enable = "avx512f,avx512bw,avx512dq,avx512vl,avx2,fma,f16c")]
    unsafe fn load_some(stored: *const u8, chosen: u16) -> __m512 {
        // SAFETY: the caller promises what is chosen and the instructions.
        unsafe { _mm512_maskz_loadu_ps(chosen, stored.cast()) }
    }
}

impl Floats for Half {
    const BYTES: usize = 2;

    #[inline]
    #[target_feature(enable = "avx512f,avx512bw,avx512dq,avx512vl,avx2,fma,f16c")]
    unsafe fn load(stored: *const u8) -> __m512 {
        // SAFETY: as above.
        unsafe { _mm512_cvtph_ps(_mm256_loadu_si256(stored.cast())) }
    }

    #[inline]
    #[target_feature(enable = "avx512f,avx512bw,avx512dq,avx512vl,avx2,fma,f16c")]
    unsafe fn load_some(stored: *const u8, chosen: u16) -> __m512 {
        // SAFETY: as above.
        unsafe { _mm512_cvtph_ps(_mm256_maskz_loadu_epi16(chosen, stored.cast())) }
    }
}

impl Floats for Brain {
    const BYTES: usize = 2;

    #[inline]
    #[target_feature(enable = "avx512f,avx512bw,avx512dq,avx512vl,avx2,fma,f16c")]
    unsafe fn load(stored: *const u8) -> __m512 {
        // SAFETY: as above.
        widened(unsafe { _mm256_loadu_si256(stored.cast()) })
    }

    #[inline]
    #[target_feature(enable = "avx512f,avx512bw,avx512dq,avx512vl,avx2,fma,f16c")]
    unsafe fn load_some(stored: *const u8, chosen: u16) -> __m512 {
        // SAFETY: as above.
        widened(unsafe { _mm256_maskz_loadu_epi16(chosen, stored.cast()) })
    }
}

/// Converts BF16 to floats, by adding sixteen zero bits below.
#[inline]
#[target_feature(enable = "avx512f")]
fn widened(halves: __m256i) -> __m512 {
    _mm512_castsi512_ps(_mm512_slli_epi32::<16>(_mm512_cvtepu16_epi32(halves)))
}

/// Multiplies the rows of a panel by tokens; each row and token has `columns` values.
///
/// # Safety
/// `rows` has the rows of `out`, at most [`ROWS`]; `x` has the tokens of `out`, laid out as [`FloatTiles`] describes.
#[target_feature(enable = "avx512f,avx512bw,avx512dq,avx512vl,avx2,fma,f16c")]
pub(in crate::matrix) unsafe fn multiply<F: Floats>(
    rows: &[u8],
    x: FloatTiles<'_>,
    out: &Results<'_>,
) {
    let lines = x.lines_of_row();
    let mut block = Block::<F> { rows, x, out, sums: &mut [], floats: std::marker::PhantomData };
    // With few tokens, rows are read from memory once, in order; partial sums need not be stored.
    if out.tokens() <= FLOAT_TOKENS {
        // SAFETY: as the caller promises.
        return unsafe { block.pass_any(0, 0..lines) };
    }
    let stretch = lines.div_ceil(lines.div_ceil(STRETCH));
    let mut sums = [Sixteen::default(); ROWS * FLOAT_TOKENS];
    block.sums = &mut sums;
    for token in (0..out.tokens()).step_by(FLOAT_TOKENS) {
        for first in (0..lines).step_by(stretch) {
            // SAFETY: as the caller promises; sums are there for all rows of a tile's tokens.
            unsafe { block.pass_any(token, first..lines.min(first + stretch)) };
        }
    }
}

/// A panel and the tokens that it is multiplied by.
struct Block<'a, F> {
    rows: &'a [u8],
    x: FloatTiles<'a>,
    out: &'a Results<'a>,
    /// Partial sums between two ranges of lines, one tile after the other.
    sums: &'a mut [Sixteen],
    floats: std::marker::PhantomData<F>,
}

impl<F: Floats> Block<'_, F> {
    /// Multiplies a range of lines of all rows by the tokens of a tile, or by the remaining ones.
    ///
    /// # Safety
    /// As [`Self::tile`], for all rows.
    #[target_feature(enable = "avx512f,avx512bw,avx512dq,avx512vl,avx2,fma,f16c")]
    unsafe fn pass_any(&mut self, token: usize, lines: Range<usize>) {
        // SAFETY: that many tokens are left; the rest as the caller promises.
        unsafe {
            match self.out.tokens() - token {
                1 => self.pass::<1>(token, lines),
                2 => self.pass::<2>(token, lines),
                3 => self.pass::<3>(token, lines),
                4 => self.pass::<4>(token, lines),
                5 => self.pass::<5>(token, lines),
                _ => self.pass::<FLOAT_TOKENS>(token, lines),
            }
        }
    }

    /// Multiplies a range of lines of all rows by `TOKENS` tokens.
    ///
    /// # Safety
    /// As [`Self::tile`], for all rows.
    #[target_feature(enable = "avx512f,avx512bw,avx512dq,avx512vl,avx2,fma,f16c")]
    unsafe fn pass<const TOKENS: usize>(&mut self, token: usize, lines: Range<usize>) {
        let count = self.out.rows();
        let mut row = 0;
        while row < count {
            let lines = lines.clone();
            // SAFETY: these rows exist, and these tokens as the caller promises.
            row += unsafe {
                match count - row {
                    ROWS_OF_ONE.. if TOKENS == 1 => {
                        self.tile::<ROWS_OF_ONE, TOKENS>(row, token, lines)
                    }
                    TILE_ROWS.. => self.tile::<TILE_ROWS, TOKENS>(row, token, lines),
                    _ => self.tile::<1, TOKENS>(row, token, lines),
                }
            };
        }
    }

    /// Multiplies `ROWS` rows from `row` on by `TOKENS` tokens from `token` on; returns the number of rows.
    ///
    /// # Safety
    /// There are that many rows and tokens, with partial sums unless `lines` is a whole row.
    #[inline]
    #[target_feature(enable = "avx512f,avx512bw,avx512dq,avx512vl,avx2,fma,f16c")]
    unsafe fn tile<const ROWS: usize, const TOKENS: usize>(
        &mut self,
        row: usize,
        token: usize,
        lines: Range<usize>,
    ) -> usize {
        let FloatTiles { columns, together, .. } = self.x;
        let is_last = lines.end == self.x.lines_of_row();
        let mut partials = [[_mm512_setzero_ps(); ROWS]; TOKENS];
        // SAFETY: rows have `columns` values, tokens as many lines as these fill; there are partial sums for
        // all rows of each token of a tile, and room for results of all rows of the tile.
        unsafe {
            let sums = self.sums.as_mut_ptr().wrapping_add(row * FLOAT_TOKENS);
            if lines.start > 0 {
                for (at, partial) in partials.as_flattened_mut().iter_mut().enumerate() {
                    *partial = _mm512_load_ps(sums.add(at).cast());
                }
            }
            let rows = self.rows.as_ptr().add(row * columns * F::BYTES);
            let x = self.x.of(token).as_ptr();
            let row_at =
                |row: usize, line: usize| rows.add((row * columns + line * REGISTER) * F::BYTES);
            let x_at = |token: usize, line: usize| x.add(line * together + token).cast();
            for line in lines.start..lines.end.min(columns / REGISTER) {
                let weights: [__m512; ROWS] = std::array::from_fn(|row| F::load(row_at(row, line)));
                for (token, partials) in partials.iter_mut().enumerate() {
                    let x = _mm512_load_ps(x_at(token, line));
                    for (partial, weights) in partials.iter_mut().zip(weights) {
                        *partial = _mm512_fmadd_ps(weights, x, *partial);
                    }
                }
            }
            if is_last && !columns.is_multiple_of(REGISTER) {
                let chosen = (1_u16 << (columns % REGISTER)) - 1;
                let line = columns / REGISTER;
                for (token, partials) in partials.iter_mut().enumerate() {
                    let x = _mm512_load_ps(x_at(token, line));
                    for (row, partial) in partials.iter_mut().enumerate() {
                        let weights = F::load_some(row_at(row, line), chosen);
                        // The others stay unchanged: adding zero would change the sign of a negative zero.
                        *partial = _mm512_mask3_fmadd_ps(weights, x, *partial, chosen);
                    }
                }
            }
            if is_last {
                for (at, partials) in partials.iter().enumerate() {
                    put(partials, self.out.at(token + at, row).0);
                }
            } else {
                for (at, partial) in partials.as_flattened().iter().enumerate() {
                    _mm512_store_ps(sums.add(at).cast(), *partial);
                }
            }
        }
        ROWS
    }
}

/// Adds up the partial sums of each row of a token, and writes the results.
///
/// # Safety
/// `out` is valid for writing as many results as there are partial sums.
#[inline]
#[target_feature(enable = "avx512f,avx512dq,avx512vl")]
unsafe fn put(partials: &[__m512], mut out: *mut f32) {
    let (fours, ones) = partials.as_chunks::<TILE_ROWS>();
    // SAFETY: as the caller promises.
    unsafe {
        for four in fours {
            put_results(trees(four), out, TILE_ROWS);
            out = out.add(TILE_ROWS);
        }
        for (at, one) in ones.iter().enumerate() {
            out.add(at).write(tree(*one));
        }
    }
}
