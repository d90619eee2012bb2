//! What tiles of BF16 need beside their own instructions: twins of `matrix::tiles`, 512 bits at a time.

use std::arch::asm;
use std::arch::x86_64::*;
use std::ops::Range;

use deft_formats::quant::{Blocks, GROUP, STRIP, STRIP_GROUPS, Strip, unpack};

use super::STEPS;
use super::interleaved::words;
use super::quants::{Wide, load};
use super::scales::Scales;
use crate::ahead::{ask_for, ask_for_bytes};
use crate::matrix::tiles::{COLUMNS, SIDE, Tile};
use crate::sixteen::Sixteen;
use crate::team::Results;

/// To BF16, the first sixteen values and then the others.
///
/// Written as it is so that callers need not be compiled for this instruction, and tests can use its twin.
#[target_feature(enable = "avx512f")]
#[inline]
unsafe fn rounded(first: __m512, second: __m512) -> __m512i {
    #[cfg(test)]
    if !crate::matrix::tiles::instructions() {
        return twin(first, second);
    }
    let rounded;
    // SAFETY: the path is only chosen where the instruction was found; it touches these registers only.
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

/// What the instruction computes; tests use it on processors without it.
#[cfg(test)]
#[target_feature(enable = "avx512f")]
pub(in crate::matrix) fn twin(first: __m512, second: __m512) -> __m512i {
    let values: [[f32; SIDE]; 2] = [bytemuck::cast(first), bytemuck::cast(second)];
    let rounded: [[u16; SIDE]; 2] = values.map(|half| half.map(crate::matrix::tiles::brain));
    bytemuck::cast(rounded)
}

/// Up to 512 values of a row to a row of tiles.
///
/// # Safety
/// The processor has the instructions.
#[target_feature(enable = "avx512f,avx512bw,avx512dq,avx512vl,avx2,fma,f16c")]
pub(in crate::matrix) unsafe fn row_of_tiles<B: Wide>(
    stored: &[u8],
    ahead: usize,
    tiles: &mut [Tile],
    row: usize,
) {
    if ahead > 0 {
        ask_for::<B>(stored, ahead);
    }
    if stored.len() == STRIP / B::VALUES * B::BYTES {
        // SAFETY: these are blocks of 512 values.
        let (quants, scales) =
            unsafe { (load::<B>(stored.as_ptr(), STEPS), B::scales_of(stored.as_ptr())) };
        // SAFETY: as the caller promises.
        return unsafe { fill::<B>(&quants, &scales, tiles, row) };
    }
    let mut strip = Strip::default();
    unpack::<B>(stored, &mut strip);
    // SAFETY: a strip has 512 quants.
    let quants = std::array::from_fn(|step| unsafe {
        _mm512_load_si512(strip.quants.as_ptr().add(step * 2 * GROUP).cast())
    });
    // SAFETY: as the caller promises.
    unsafe { fill::<B>(&quants, &Scales::of::<B>(&strip), tiles, row) };
}

/// Values of quants, group by group: a group fills a row of a tile.
///
/// # Safety
/// The processor has the instruction that rounds.
#[target_feature(enable = "avx512f,avx512bw,avx512dq,avx512vl")]
#[inline]
unsafe fn fill<B: Blocks>(
    quants: &[__m512i; STEPS],
    scales: &Scales,
    tiles: &mut [Tile],
    row: usize,
) {
    let each = |values: __m512| -> [f32; STRIP_GROUPS] { bytemuck::cast(values) };
    let (factors, minima) = (scales.scales.map(each), scales.mins.map(each));
    for (pair, tiles) in tiles.chunks_mut(2).enumerate() {
        let both = quants[pair];
        let quarters = [
            _mm512_castsi512_si128(both),
            _mm512_extracti32x4_epi32::<1>(both),
            _mm512_extracti32x4_epi32::<2>(both),
            _mm512_extracti32x4_epi32::<3>(both),
        ];
        for (at, tile) in tiles.iter_mut().enumerate() {
            let group = pair * 2 + at;
            let half = |half: usize| {
                let run = if B::HALVES { half } else { 0 };
                let scale = _mm512_set1_ps(factors[run][group]);
                let minimum = _mm512_set1_ps(minima[run][group]);
                values::<B>(quarters[at * 2 + half], scale, minimum)
            };
            let (first, second) = (half(0), half(1));
            // SAFETY: as the caller promises; a tile's row is a line.
            unsafe {
                _mm512_store_si512(tile.0[row].as_mut_ptr().cast(), rounded(first, second));
            }
        }
    }
}

/// Sixteen quants to values, each step rounded as the format says.
#[target_feature(enable = "avx512f")]
#[inline]
fn values<B: Blocks>(quants: __m128i, scale: __m512, minimum: __m512) -> __m512 {
    let offset = _mm512_set1_epi32(i32::from(B::OFFSET));
    let whole = _mm512_sub_epi32(_mm512_cvtepu8_epi32(quants), offset);
    let scaled = _mm512_mul_ps(scale, _mm512_cvtepi32_ps(whole));
    if B::MINIMA { _mm512_sub_ps(scaled, minimum) } else { scaled }
}

/// Half floats of a row to a row of tiles, the last of which is filled up with zeros.
///
/// # Safety
/// The processor has the instructions.
#[target_feature(enable = "avx512f,avx512bw,avx512dq,avx512vl")]
pub(in crate::matrix) unsafe fn half_row(
    stored: &[u8],
    ahead: usize,
    tiles: &mut [Tile],
    row: usize,
) {
    if ahead > 0 {
        ask_for_bytes(stored, ahead);
    }
    for (stored, tile) in stored.chunks(2 * COLUMNS).zip(tiles) {
        let (pointer, values) = (stored.as_ptr().cast::<i16>(), stored.len() / 2);
        let mask = |from: usize| first_of(values.saturating_sub(from));
        // SAFETY: what is beyond the row is masked out; the caller promises the instructions.
        unsafe {
            let first = _mm256_maskz_loadu_epi16(mask(0), pointer);
            let second = _mm256_maskz_loadu_epi16(mask(SIDE), pointer.wrapping_add(SIDE));
            let both = rounded(_mm512_cvtph_ps(first), _mm512_cvtph_ps(second));
            _mm512_store_si512(tile.0[row].as_mut_ptr().cast(), both);
        }
    }
}

/// A bit for each of the first so many of sixteen.
fn first_of(count: usize) -> u16 {
    if count >= SIDE { u16::MAX } else { (1 << count) - 1 }
}

/// Sixteen lines of sixteen words: rows become columns.
#[target_feature(enable = "avx512f")]
#[inline]
fn transposed(lines: [__m512i; SIDE]) -> [__m512i; SIDE] {
    let mut lines = lines;
    // Words, then pairs of them, then quarters of registers change places with those of other lines.
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

/// Values of up to sixteen tokens to their tiles.
///
/// # Safety
/// The processor has the instructions.
#[target_feature(enable = "avx512f,avx512bw,avx512dq,avx512vl")]
pub(in crate::matrix) unsafe fn round_group(values: &[f32], columns: usize, lines: &mut [Sixteen]) {
    let tokens = values.len() / columns;
    assert!(tokens <= SIDE, "more than a group");
    for (tile, lines) in lines.chunks_exact_mut(tokens).enumerate() {
        let from = tile * COLUMNS;
        let own = COLUMNS.min(columns - from);
        let mask = |first: usize| first_of(own.saturating_sub(first));
        let mut rows = [_mm512_setzero_si512(); SIDE];
        for (row, values) in rows.iter_mut().zip(values.chunks_exact(columns)) {
            let pointer = values[from..].as_ptr();
            // SAFETY: what is beyond the row is masked out; the caller promises the instructions.
            *row = unsafe {
                let first = _mm512_maskz_loadu_ps(mask(0), pointer);
                let second = _mm512_maskz_loadu_ps(mask(SIDE), pointer.wrapping_add(SIDE));
                rounded(first, second)
            };
        }
        if tokens == 1 {
            lines[0] = bytemuck::cast(rows[0]);
            continue;
        }
        let pairs = transposed(rows);
        let words: &mut [u32] = bytemuck::cast_slice_mut(lines);
        for (pair, words) in pairs.iter().zip(words.chunks_exact_mut(tokens)) {
            // SAFETY: as many words are written as there are tokens.
            unsafe {
                _mm512_mask_storeu_epi32(words.as_mut_ptr().cast(), first_of(tokens), *pair);
            }
        }
    }
}

/// Writes sums of some rows for so many tokens.
///
/// # Safety
/// The processor has the instructions.
#[target_feature(enable = "avx512f")]
pub(in crate::matrix) unsafe fn write_sums(
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
        debug_assert!(left >= rows.len(), "rows beyond the results");
        // SAFETY: so many rows of a token's results are there, and the others are masked out.
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
        if !crate::matrix::tiles::instructions() {
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
            let [found, wanted]: [[u16; COLUMNS]; 2] = [found, wanted].map(bytemuck::cast);
            assert_eq!(found, wanted, "{values:?}");
        }
    }
}
