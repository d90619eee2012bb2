//! Rows of floats times tokens: tiles whose partial sums stay in registers.

use std::arch::x86_64::*;
use std::ops::Range;

use super::{TILE_ROWS, put_results, tree, trees};
use crate::matrix::activations::{FLOAT_TOKENS, FloatTiles};
use crate::matrix::floats::{Brain, Half, Single};
use crate::sixteen::{REGISTER, Sixteen};
use crate::team::Results;

/// Rows of a panel: many enough that all tokens pass by seldom.
pub(in crate::matrix) const ROWS: usize = 32;
/// Most lines of a token that pass by at a time: those of a tile stay in the nearest cache.
const STRETCH: usize = 48;
/// Rows of a tile of a single token: so many sums go on at a time.
const ROWS_OF_ONE: usize = 8;

/// How stored values become floats.
pub(crate) trait Floats {
    /// Bytes of a value.
    const BYTES: usize;

    /// Sixteen values.
    ///
    /// # Safety
    /// So many can be read; the processor has the instructions.
    unsafe fn load(stored: *const u8) -> __m512;

    /// The chosen ones of sixteen values, nothing for the others.
    ///
    /// # Safety
    /// The chosen ones can be read; the processor has the instructions.
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

/// The upper halves of floats, with nothing below.
#[inline]
#[target_feature(enable = "avx512f")]
fn widened(halves: __m256i) -> __m512 {
    _mm512_castsi512_ps(_mm512_slli_epi32::<16>(_mm512_cvtepu16_epi32(halves)))
}

/// Rows times tokens of `columns` values each.
///
/// # Safety
/// There are as many rows as there is room for results, and no more than [`ROWS`]; `x` has the tokens of the
/// results, as [`FloatTiles`] says.
#[target_feature(enable = "avx512f,avx512bw,avx512dq,avx512vl,avx2,fma,f16c")]
pub(in crate::matrix) unsafe fn multiply<F: Floats>(
    rows: &[u8],
    x: FloatTiles<'_>,
    out: &Results<'_>,
) {
    let lines = x.lines_of_row();
    let mut block = Block::<F> { rows, x, out, sums: &mut [], floats: std::marker::PhantomData };
    // Rows of few tokens come from memory, best as they stand there, and nothing is put aside.
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

/// What is multiplied.
struct Block<'a, F> {
    rows: &'a [u8],
    x: FloatTiles<'a>,
    out: &'a Results<'a>,
    /// Partial sums, a tile's after the other's, between two stretches of a row.
    sums: &'a mut [Sixteen],
    floats: std::marker::PhantomData<F>,
}

impl<F: Floats> Block<'_, F> {
    /// A stretch of all rows passes by the tokens of a tile, as many as are left.
    ///
    /// # Safety
    /// As [`Self::tile`], for all rows.
    #[target_feature(enable = "avx512f,avx512bw,avx512dq,avx512vl,avx2,fma,f16c")]
    unsafe fn pass_any(&mut self, token: usize, lines: Range<usize>) {
        // SAFETY: so many tokens are left; the rest as the caller promises.
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

    /// A stretch of all rows passes by some tokens: lines of activations with so many numbers.
    ///
    /// # Safety
    /// As [`Self::tile`], for all rows.
    #[target_feature(enable = "avx512f,avx512bw,avx512dq,avx512vl,avx2,fma,f16c")]
    unsafe fn pass<const TOKENS: usize>(&mut self, token: usize, lines: Range<usize>) {
        let count = self.out.rows();
        let mut row = 0;
        while row < count {
            let lines = lines.clone();
            // SAFETY: rows and tokens exist, as far as the caller promises.
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

    /// Some rows times some tokens; returns how many rows.
    ///
    /// # Safety
    /// There are so many rows from this one on, and tokens from that one on; partial sums of all of them, unless
    /// the lines are all of a row.
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
                        // Others stay as they are: adding nothing to minus nothing would change it.
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

/// Brings a token's sums to their end and writes the results.
///
/// # Safety
/// So many can be written.
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
