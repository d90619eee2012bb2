//! Conversion of weights and activations to tiles of BF16 with AVX-512; bit for bit equal to [`crate::matrix::tiles`].

use std::arch::x86_64::*;

use deft_formats::quant::{Blocks, STRIP, STRIP_GROUPS};

use super::REGISTERS;
use super::quants::{Wide, load};
use super::rest::{self, Room};
use super::scales::Scales;
use crate::prefetch::{prefetch_bytes, prefetch_strip};
use crate::sixteen::Sixteen;
use crate::tiles::{SIDE, TERMS as COLUMNS, Tile, first_of, rounded, transposed};

/// Converts up to 512 values of a row to one row of several tiles. If `ahead` is not zero, prefetches at that distance.
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
        prefetch_strip::<B>(stored, ahead);
    }
    if stored.len() == STRIP / B::VALUES * B::BYTES {
        // SAFETY: these are blocks of 512 values.
        let (quants, scales) =
            unsafe { (load::<B>(stored.as_ptr(), REGISTERS), B::scales_of(stored.as_ptr())) };
        // SAFETY: as the caller promises.
        return unsafe { fill::<B>(&quants, &scales, tiles, row) };
    }
    let (quants, scales) = rest::groups::<B>(stored, stored.len(), &mut Room::default());
    // SAFETY: as the caller promises.
    unsafe { fill::<B>(&quants, &scales, tiles, row) };
}

/// Converts quants to values, group by group: a group fills a row of a tile.
///
/// # Safety
/// The processor has the instruction that rounds.
#[target_feature(enable = "avx512f,avx512bw,avx512dq,avx512vl")]
#[inline]
unsafe fn fill<B: Blocks>(
    quants: &[__m512i; REGISTERS],
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
            // SAFETY: as the caller promises; a row of a tile is a cache line.
            unsafe {
                _mm512_store_si512(tile.0[row].as_mut_ptr().cast(), rounded(first, second));
            }
        }
    }
}

/// Converts sixteen quants to values with the rounding steps of the format.
#[target_feature(enable = "avx512f")]
#[inline]
fn values<B: Blocks>(quants: __m128i, scale: __m512, minimum: __m512) -> __m512 {
    let offset = _mm512_set1_epi32(i32::from(B::OFFSET));
    let whole = _mm512_sub_epi32(_mm512_cvtepu8_epi32(quants), offset);
    let scaled = _mm512_mul_ps(scale, _mm512_cvtepi32_ps(whole));
    if B::MINIMA { _mm512_sub_ps(scaled, minimum) } else { scaled }
}

/// Converts half floats of a row to one row of several tiles; the last tile is padded with zeros.
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
        prefetch_bytes(stored, ahead);
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

/// Converts activations of up to sixteen tokens to tiles.
///
/// # Safety
/// The processor has the instructions.
#[target_feature(enable = "avx512f,avx512bw,avx512dq,avx512vl")]
pub(in crate::matrix) unsafe fn round_group(values: &[f32], columns: usize, lines: &mut [Sixteen]) {
    let tokens = values.len() / columns;
    assert!(tokens <= SIDE, "more tokens than a group has");
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
