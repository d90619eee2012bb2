//! Conversion to tiles, and output of their sums, with AVX-512.

use std::arch::asm;
use std::arch::x86_64::*;
use std::ops::Range;

use super::{SIDE, TERMS, Tile};
use crate::matrix::{Floats, words};
use crate::prefetch::{CACHE_LINE, Parts};
use crate::sixteen::Sixteen;
use crate::team::Results;

/// Rounds two times sixteen values to BF16.
///
/// Written as assembly, so that callers need not be compiled for this instruction and tests can use its twin.
#[target_feature(enable = "avx512f")]
#[inline]
pub(crate) unsafe fn rounded(first: __m512, second: __m512) -> __m512i {
    #[cfg(test)]
    if !super::instructions() {
        return twin(first, second);
    }
    let rounded;
    // SAFETY: the path is only chosen if the instruction was detected; it uses these registers only.
    unsafe {
        asm!(
            "vcvtne2ps2bf16 {rounded}, {second}, {first}",
            rounded = lateout(zmm_reg) rounded,
            first = in(zmm_reg) first,
            second = in(zmm_reg) second,
            options(pure, nomem, nostack, preserves_flags)
        );
    }
    rounded
}

/// Computes what the instruction computes; tests use it on processors without the instruction.
#[cfg(test)]
#[target_feature(enable = "avx512f")]
fn twin(first: __m512, second: __m512) -> __m512i {
    let values: [[f32; SIDE]; 2] = [bytemuck::cast(first), bytemuck::cast(second)];
    let rounded: [[u16; SIDE]; 2] = values.map(|half| half.map(super::brain));
    bytemuck::cast(rounded)
}

/// Mask of the first `count` of sixteen entries.
pub(crate) fn first_of(count: usize) -> u16 {
    if count >= SIDE { u16::MAX } else { (1 << count) - 1 }
}

/// Transposes sixteen registers of sixteen words.
#[target_feature(enable = "avx512f")]
#[inline]
pub(crate) fn transposed(lines: [__m512i; SIDE]) -> [__m512i; SIDE] {
    let mut lines = lines;
    // First within the 128-bit lanes of four registers each, then the lanes themselves.
    for four in lines.as_chunks_mut::<4>().0 {
        let [a, b, c, d] = *four;
        *four = words(a, b, c, d);
    }
    let mut columns = lines;
    for at in 0..4 {
        let quarters = [lines[at], lines[at + 4], lines[at + 8], lines[at + 12]];
        let [a, b, c, d] = quarters;
        let (even, odd) = (_mm512_shuffle_i32x4::<0x88>(a, b), _mm512_shuffle_i32x4::<0xDD>(a, b));
        let (more, most) = (_mm512_shuffle_i32x4::<0x88>(c, d), _mm512_shuffle_i32x4::<0xDD>(c, d));
        columns[at] = _mm512_shuffle_i32x4::<0x88>(even, more);
        columns[at + 4] = _mm512_shuffle_i32x4::<0x88>(odd, most);
        columns[at + 8] = _mm512_shuffle_i32x4::<0xDD>(even, more);
        columns[at + 12] = _mm512_shuffle_i32x4::<0xDD>(odd, most);
    }
    columns
}

/// Converts up to sixteen rows of `length` values to a row of tiles; the last tile is padded with zeros.
///
/// # Safety
/// The processor has the instructions.
#[target_feature(enable = "avx512f,avx512bw,avx512dq,avx512vl")]
pub(crate) unsafe fn left(values: &[f32], length: usize, tiles: &mut [Tile]) {
    for (row, values) in values.chunks_exact(length).take(SIDE).enumerate() {
        for (values, tile) in values.chunks(TERMS).zip(&mut *tiles) {
            let mask = |first: usize| first_of(values.len().saturating_sub(first));
            let pointer = values.as_ptr();
            // SAFETY: values beyond the row are masked out; a row of a tile is a cache line; the caller promises the
            // instructions.
            unsafe {
                let first = _mm512_maskz_loadu_ps(mask(0), pointer);
                let second = _mm512_maskz_loadu_ps(mask(SIDE), pointer.wrapping_add(SIDE));
                _mm512_store_si512(tile.0[row].as_mut_ptr().cast(), rounded(first, second));
            }
        }
    }
}

/// Permutation that interleaves the words of two rows: the first word of each, then the second of each.
const SIDE_BY_SIDE: [u16; TERMS] = {
    let mut places = [0; TERMS];
    let mut at = 0;
    while at < TERMS {
        places[at] = (at / 2 + at % 2 * SIDE) as u16;
        at += 1;
    }
    places
};

/// Converts the first `terms` rows of `columns` values (a multiple of sixteen) to the tiles of each sixteen columns;
/// prefetches `next`.
///
/// # Safety
/// The processor has the instructions; `values` has that many rows, and `lines` has the lines of all tiles.
#[target_feature(enable = "avx512f,avx512bw,avx512dq,avx512vl,avx2,fma,f16c")]
pub(crate) unsafe fn right<F: Floats>(
    values: &[u8],
    columns: usize,
    terms: usize,
    lines: &mut [Sixteen],
    next: &[u8],
) {
    let (across, pairs) = (terms.div_ceil(TERMS), terms.div_ceil(2));
    let ahead = Parts::of(next, pairs, values);
    // SAFETY: 32 words; the caller promises rows, columns and lines.
    unsafe {
        let places = _mm512_loadu_si512(SIDE_BY_SIDE.as_ptr().cast());
        for pair in 0..across * SIDE {
            for line in (0..ahead.length()).step_by(CACHE_LINE) {
                ahead.fetch(pair.min(pairs - 1), line);
            }
            let row = |term: usize, block: usize| {
                if term < terms {
                    F::load(values.as_ptr().add((term * columns + block * SIDE) * F::BYTES))
                } else {
                    _mm512_setzero_ps()
                }
            };
            for block in 0..columns / SIDE {
                let both = rounded(row(2 * pair, block), row(2 * pair + 1, block));
                let line = &mut lines[(block * across + pair / SIDE) * SIDE + pair % SIDE];
                *line = bytemuck::cast(_mm512_permutexvar_epi16(places, both));
            }
        }
    }
}

/// Writes the sums of `rows` for `tokens` tokens from `token` on.
///
/// # Safety
/// The processor has the instructions.
#[target_feature(enable = "avx512f")]
pub(super) unsafe fn write_sums(
    sums: &[Sixteen; SIDE],
    out: &Results<'_>,
    token: usize,
    rows: Range<usize>,
    tokens: usize,
) {
    let by_token = transposed(sums.map(bytemuck::cast));
    let mask = first_of(rows.len());
    for (at, sums) in by_token.iter().enumerate().take(tokens) {
        let (place, left) = out.at(token + at, rows.start);
        debug_assert!(left >= rows.len(), "there are fewer results than rows");
        // SAFETY: the token has results for these rows; the others are masked out.
        unsafe { _mm512_mask_storeu_ps(place, mask, _mm512_castsi512_ps(*sums)) };
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rows_become_columns() {
        if !is_x86_feature_detected!("avx512f") {
            return eprintln!("skipped: this processor has no AVX-512");
        }
        let lines: [[u32; SIDE]; SIDE] =
            std::array::from_fn(|row| std::array::from_fn(|column| (row * 100 + column) as u32));
        // SAFETY: the instructions were found.
        let found = unsafe { transposed(lines.map(bytemuck::cast)) };
        let found: [[u32; SIDE]; SIDE] = found.map(bytemuck::cast);
        for (row, line) in found.iter().enumerate() {
            for (column, word) in line.iter().enumerate() {
                assert_eq!(*word, lines[column][row]);
            }
        }
    }

    #[test]
    fn the_instruction_that_rounds_computes_what_its_twin_says() {
        if !crate::tiles::instructions() {
            return eprintln!("skipped: this processor has no AMX");
        }
        let mut state = 1_u32;
        for _ in 0..4000 {
            let values: [[f32; SIDE]; 2] = std::array::from_fn(|_| {
                std::array::from_fn(|_| {
                    state = state.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
                    f32::from_bits(state)
                })
            });
            let [first, second]: [__m512; 2] = values.map(bytemuck::cast);
            // SAFETY: the instructions were found.
            let (found, wanted) = unsafe { (rounded(first, second), twin(first, second)) };
            let [found, wanted]: [[u16; TERMS]; 2] = [found, wanted].map(bytemuck::cast);
            assert_eq!(found, wanted, "{values:?}");
        }
    }
}
