//! Matrix products with AVX-512, bit for bit equal to [`super::scalar`].
//!
//! A *strip* is 512 quantised values of a row: 16 groups of 32. A row has sixteen partial sums, one per group of a
//! strip, and they fit one 512-bit register. [`rows`] multiplies a single token; [`multiply`] multiplies panels of
//! unpacked rows by many tokens.

use std::arch::x86_64::*;

mod floats;
mod interleaved;
mod quants;
mod rest;
mod rounding;
mod scales;
mod tiles;

use deft_formats::quant::{Blocks, GROUP, STRIP, STRIP_GROUPS};

use super::activations::{RoundedStrip, TILE_TOKENS};
pub(crate) use floats::Floats;
pub(super) use floats::{ROWS as FLOAT_ROWS, multiply as multiply_floats};
use interleaved::interleaved;
pub(crate) use interleaved::words;
pub(super) use quants::Wide;
pub(super) use rest::Room;
pub(super) use rounding::{round_into, round_strip};
use scales::Scales;
pub(super) use tiles::{half_row, round_group, row_of_tiles};

use super::lines::{REGISTERS, RowLines, TILE_ROWS, TokenLines};
use super::panel::Panel;
use crate::dots::wide_fours;
use crate::prefetch::{PREFETCH_DISTANCE, Prefetch, prefetch_bytes, prefetch_strip};
use crate::sixteen::Sixteen;
use crate::team::Results;

/// Index, within the two registers that [`quarters`] returns, of the sum of the first half of each group. The sum of
/// the second half is four words further.
const EVEN: [i32; 16] = {
    let mut places = [0; 16];
    let mut group = 0;
    while group < 16 {
        let register = group / 8 * 16;
        places[group as usize] = register + group % 2 * 8 + group % 8 / 2;
        group += 1;
    }
    places
};

/// The indices of [`EVEN`], or those of the second halves.
#[target_feature(enable = "avx512f")]
#[inline]
fn places(odd: bool) -> __m512i {
    // SAFETY: the array has sixteen words.
    let even = unsafe { _mm512_loadu_si512(EVEN.as_ptr().cast()) };
    if odd { _mm512_add_epi32(even, _mm512_set1_epi32(4)) } else { even }
}

/// Sums of four neighbouring words each, of eight registers. Each register has two groups of eight words. In the
/// result, each 128-bit lane holds the sums of the same quarter of four registers.
#[target_feature(enable = "avx512f")]
#[inline]
fn quarters(sums: &[__m512i; REGISTERS]) -> (__m512i, __m512i) {
    let four = |first: usize| {
        let pair = |at: usize| {
            let (a, b) = (sums[at], sums[at + 1]);
            _mm512_add_epi32(_mm512_unpacklo_epi32(a, b), _mm512_unpackhi_epi32(a, b))
        };
        let (a, b) = (pair(first), pair(first + 2));
        _mm512_add_epi32(_mm512_unpacklo_epi64(a, b), _mm512_unpackhi_epi64(a, b))
    };
    (four(0), four(4))
}

/// Integer sums of the first halves and of the second halves of all groups, in the order of the groups.
#[target_feature(enable = "avx512f")]
#[inline]
fn half_sums(sums: &[__m512i; REGISTERS]) -> (__m512i, __m512i) {
    let (low, high) = quarters(sums);
    (
        _mm512_permutex2var_epi32(low, places(false), high),
        _mm512_permutex2var_epi32(low, places(true), high),
    )
}

/// Adds sixteen scaled integer sums to the partial sums, and subtracts the minima.
#[target_feature(enable = "avx512f")]
#[inline]
fn add<B: Blocks>(
    partial: __m512,
    sums: __m512i,
    scale: __m512,
    min: __m512,
    x_scale: &[f32; STRIP_GROUPS],
    x_low: &[f32; STRIP_GROUPS],
) -> __m512 {
    // SAFETY: the arrays have sixteen entries.
    unsafe {
        let factor = _mm512_mul_ps(scale, _mm512_load_ps(x_scale.as_ptr()));
        let partial = _mm512_fmadd_ps(_mm512_cvtepi32_ps(sums), factor, partial);
        if !B::MINIMA {
            return partial;
        }
        _mm512_fnmadd_ps(min, _mm512_load_ps(x_low.as_ptr()), partial)
    }
}

/// Adds a strip to the partial sums. `sums` are its products, without the bias of the sums.
#[target_feature(enable = "avx512f,avx512vl,avx512bw,f16c")]
#[inline]
fn add_strip<B: Blocks>(
    partial: __m512,
    sums: &[__m512i; REGISTERS],
    scales: &Scales,
    x: &RoundedStrip,
) -> __m512 {
    let (first, second) = half_sums(sums);
    // SAFETY: the arrays have sixteen entries.
    let start = |half: usize| unsafe { _mm512_load_si512(x.sum_biases[half].as_ptr().cast()) };
    let (scale, min) = (scales.scales[0], scales.mins[0]);
    if !B::HALVES {
        let sums = _mm512_add_epi32(_mm512_add_epi32(first, second), start(0));
        return add::<B>(partial, sums, scale, min, &x.scales, &x.min_factors[0]);
    }
    let first = _mm512_add_epi32(first, start(0));
    let partial = add::<B>(partial, first, scale, min, &x.scales, &x.min_factors[0]);
    let (scale, min) = (scales.scales[1], scales.mins[1]);
    let second = _mm512_add_epi32(second, start(1));
    add::<B>(partial, second, scale, min, &x.scales, &x.min_factors[1])
}

/// Multiplies rows of `row_bytes` bytes by the activations of one token; `out` has a result per row.
#[target_feature(enable = "avx512f,avx512bw,avx512dq,avx512vl,avx2,fma,f16c")]
#[cfg_attr(not(test), target_feature(enable = "avx512vnni"))]
pub(super) fn rows<B: Wide>(rows: &[u8], row_bytes: usize, x: &[RoundedStrip], out: &mut [f32]) {
    let strip_bytes = const { STRIP / B::VALUES * B::BYTES };
    let (whole, left) = (row_bytes / strip_bytes, row_bytes % strip_bytes);
    let mut room = Room::default();
    let done = short_rows::<B>(rows, row_bytes, x, out);
    let (rows, out) = (&rows[done * row_bytes..], &mut out[done..]);
    for (row, out) in out.iter_mut().enumerate() {
        let row = &rows[row * row_bytes..];
        let mut partial = _mm512_setzero_ps();
        for (blocks, x) in row.chunks_exact(strip_bytes).take(whole).zip(x) {
            prefetch_strip::<B>(blocks, PREFETCH_DISTANCE);
            // SAFETY: these are blocks of 512 values.
            let (quants, scales) = unsafe {
                (quants::load::<B>(blocks.as_ptr(), REGISTERS), B::scales_of(blocks.as_ptr()))
            };
            partial = add_strip::<B>(partial, &products(&quants, x), &scales, x);
        }
        if let Some(x) = x.last().filter(|_| left > 0) {
            let rest = &row[whole * strip_bytes..];
            prefetch_bytes(&rest[..left], PREFETCH_DISTANCE);
            let (quants, scales) = rest::groups::<B>(rest, left, &mut room);
            partial = add_strip::<B>(partial, &products(&quants, x), &scales, x);
        }
        *out = tree(partial);
    }
}

/// Multiplies rows that are shorter than a strip, several at a time, as long as they fill whole strips. Returns the
/// number of rows done.
#[target_feature(enable = "avx512f,avx512bw,avx512dq,avx512vl,avx2,fma,f16c")]
#[cfg_attr(not(test), target_feature(enable = "avx512vnni"))]
fn short_rows<B: Wide>(
    rows: &[u8],
    row_bytes: usize,
    x: &[RoundedStrip],
    out: &mut [f32],
) -> usize {
    let strip_bytes = STRIP / B::VALUES * B::BYTES;
    if row_bytes >= strip_bytes || !strip_bytes.is_multiple_of(row_bytes) {
        return 0;
    }
    let together = strip_bytes / row_bytes;
    let x = x[0].repeated(STRIP_GROUPS / together);
    let mut done = 0;
    for (blocks, out) in rows.chunks_exact(strip_bytes).zip(out.chunks_exact_mut(together)) {
        // SAFETY: these are blocks of 512 values.
        let (quants, scales) = unsafe {
            (quants::load::<B>(blocks.as_ptr(), REGISTERS), B::scales_of(blocks.as_ptr()))
        };
        let none = _mm512_setzero_ps();
        let partials = add_strip::<B>(none, &products(&quants, &x), &scales, &x);
        short_trees(partials, out);
        done += together;
    }
    done
}

/// Sums several short rows in the order of [`tree`]. They share a register in equal parts; each row's other partial
/// sums would be zero.
#[target_feature(enable = "avx512f")]
#[inline]
fn short_trees(partials: __m512, out: &mut [f32]) {
    let groups = STRIP_GROUPS / out.len();
    // The zeros of the other partial sums are added too, because they change the sign of a negative zero.
    let mut sums = _mm512_add_ps(partials, _mm512_setzero_ps());
    if groups == 8 {
        sums = _mm512_add_ps(sums, _mm512_shuffle_f32x4::<0xB1>(sums, sums));
    }
    if groups >= 4 {
        sums = _mm512_add_ps(sums, _mm512_shuffle_ps::<0x4E>(sums, sums));
    }
    if groups >= 2 {
        sums = _mm512_add_ps(sums, _mm512_shuffle_ps::<0xB1>(sums, sums));
    }
    let mut all = [0.0; STRIP_GROUPS];
    // SAFETY: the array has sixteen entries.
    unsafe { _mm512_storeu_ps(all.as_mut_ptr(), sums) };
    out.iter_mut().zip(all.iter().step_by(groups)).for_each(|(out, sum)| *out = *sum);
}

/// Products of quants and activations, summed by fours: two groups in each register.
#[target_feature(enable = "avx512f,avx512bw")]
#[cfg_attr(not(test), target_feature(enable = "avx512vnni"))]
#[inline]
fn products(quants: &[__m512i; REGISTERS], x: &RoundedStrip) -> [__m512i; REGISTERS] {
    // SAFETY: activations have 512 quants, 64 for each step.
    std::array::from_fn(|step| unsafe {
        let x = _mm512_load_si512(x.quants.as_ptr().add(step * 64).cast());
        wide_fours(_mm512_setzero_si512(), quants[step], x)
    })
}

/// Sum of the sixteen partial sums, in the order that NUMERICS defines.
#[target_feature(enable = "avx512f,avx512dq,avx512vl")]
#[inline]
fn tree(sums: __m512) -> f32 {
    let eight = _mm256_add_ps(_mm512_castps512_ps256(sums), _mm512_extractf32x8_ps::<1>(sums));
    let four = _mm_add_ps(_mm256_castps256_ps128(eight), _mm256_extractf128_ps::<1>(eight));
    let two = _mm_add_ps(four, _mm_movehl_ps(four, four));
    _mm_cvtss_f32(_mm_add_ss(two, _mm_movehdup_ps(two)))
}

/// Unpacks a strip of a row, or its shorter rest, into its place in a tile, with four quants of each group side by
/// side. `bytes` is the length of the strip in `stored`. If `ahead` is not zero, prefetches as many bytes at that
/// distance.
#[target_feature(enable = "avx512f,avx512bw,avx512dq,avx512vl,avx2,fma,f16c")]
pub(super) fn pack<B: Wide>(
    stored: &[u8],
    bytes: usize,
    ahead: usize,
    room: &mut Room,
    tile: &mut [Sixteen],
    row: usize,
) {
    if bytes == STRIP / B::VALUES * B::BYTES {
        if ahead > 0 {
            prefetch_strip::<B>(stored, ahead);
        }
        // SAFETY: these are blocks of 512 values.
        let (quants, scales) =
            unsafe { (B::interleaved(stored.as_ptr()), B::scales_of(stored.as_ptr())) };
        put::<B>(&quants, &scales, tile, row);
    } else {
        if ahead > 0 {
            prefetch_bytes(&stored[..bytes], ahead);
        }
        let (quants, scales) = rest::interleaved::<B>(stored, bytes, room);
        put::<B>(&quants, &scales, tile, row);
    }
}

/// Writes an unpacked strip to its place in a tile.
#[target_feature(enable = "avx512f")]
#[inline]
fn put<B: Blocks>(
    quants: &[__m512i; REGISTERS],
    scales: &Scales,
    tile: &mut [Sixteen],
    row: usize,
) {
    let lines = RowLines::of::<B>();
    assert!(tile.len() == lines.count() && row < TILE_ROWS, "a tile has another size");
    let tile = tile.as_mut_ptr();
    // SAFETY: all lines are within the tile; they have sixteen entries and begin where one of the caches does.
    unsafe {
        for (step, words) in quants.iter().enumerate() {
            _mm512_store_si512(tile.add(lines.quants(step, row)).cast(), *words);
        }
        for half in 0..if B::HALVES { 2 } else { 1 } {
            _mm512_store_ps(tile.add(lines.scales(half, row)).cast(), scales.scales[half]);
            if B::MINIMA {
                _mm512_store_ps(tile.add(lines.mins(half, row)).cast(), scales.mins[half]);
            }
        }
    }
}

/// A panel of rows and the tokens that [`multiply`] multiplies it by.
pub(super) struct Block<'a> {
    pub(super) panel: &'a Panel,
    /// Activations, laid out as [`TokenLines`] describes: `stride` strips for each three tokens. The strips of the
    /// panel begin at strip `first`.
    pub(super) x: &'a [Sixteen],
    pub(super) stride: usize,
    pub(super) first: usize,
    /// Partial sums, `tokens x rows` in whole tiles. Not read if the panel has the first strips; not written if it
    /// has the last ones.
    pub(super) sums: &'a mut [Sixteen],
    /// Results; written if the panel has the last strips. Rows that only fill the panel's last tile are ignored.
    pub(super) out: &'a Results<'a>,
    /// Memory that is needed next.
    pub(super) ahead: &'a mut Prefetch,
}

impl Block<'_> {
    fn is_last(&self) -> bool {
        self.first + self.panel.strips == self.stride
    }
}

/// Multiplies a panel by all tokens.
///
/// # Safety
/// `x`, `sums` and the panel have the sizes that [`Block`] describes, for the rows and tokens of `out`.
#[target_feature(enable = "avx512f,avx512bw,avx512dq,avx512vl,avx2,fma,f16c")]
#[cfg_attr(not(test), target_feature(enable = "avx512vnni"))]
pub(super) unsafe fn multiply<B: Blocks>(block: &mut Block<'_>) {
    let count = block.out.tokens();
    let is_last = block.is_last();
    // Activations of three tokens stay in the L1 cache while all rows are read.
    for first in (0..count).step_by(TILE_TOKENS) {
        let tokens = TILE_TOKENS.min(count - first);
        if is_last {
            (first..first + tokens).for_each(|token| block.out.fetch(token));
        }
        for row in (0..block.out.rows()).step_by(TILE_ROWS) {
            // SAFETY: the tile's tokens and rows exist, as the caller promises.
            unsafe {
                match tokens {
                    1 => tile::<B, 1>(block, row, first),
                    2 => tile::<B, 2>(block, row, first),
                    _ => tile::<B, TILE_TOKENS>(block, row, first),
                }
            }
        }
    }
}

/// Multiplies four rows by up to three tokens.
///
/// # Safety
/// As for [`multiply`]; `row` and `token` are the first ones of a tile within these sizes.
#[target_feature(enable = "avx512f,avx512bw,avx512dq,avx512vl,avx2,fma,f16c")]
#[cfg_attr(not(test), target_feature(enable = "avx512vnni"))]
#[inline]
unsafe fn tile<B: Blocks, const TOKENS: usize>(block: &mut Block<'_>, row: usize, token: usize) {
    block.ahead.fetch();
    let Block { panel, stride, first, .. } = *block;
    let (row_lines, token_lines) = (RowLines::of::<B>().count(), TokenLines::of::<B>().count());
    let together = block.out.rows().next_multiple_of(TILE_ROWS);
    // SAFETY: what is read and written are arrays of sixteen entries or 64 bytes, aligned to lines, and the
    // sums and results of rows and tokens of the tile.
    unsafe {
        let x = block.x.as_ptr().add((token / TILE_TOKENS * stride + first) * token_lines);
        let weights = panel.lines.as_ptr().add(row / TILE_ROWS * panel.strips * row_lines);
        let sums = block.sums.as_mut_ptr().wrapping_add(token * together + row);
        let mut partials = [[_mm512_setzero_ps(); TILE_ROWS]; TOKENS];
        if first > 0 {
            for (token, partials) in partials.iter_mut().enumerate() {
                for (at, partial) in partials.iter_mut().enumerate() {
                    *partial = _mm512_load_ps(sums.add(token * together + at).cast());
                }
            }
        }
        for strip in 0..panel.strips {
            let (weights, x) = (weights.add(strip * row_lines), x.add(strip * token_lines));
            add_tile::<B, TOKENS>(weights, x, 0, &mut partials);
            if B::HALVES {
                add_tile::<B, TOKENS>(weights, x, 1, &mut partials);
            }
        }
        for (at, partials) in partials.iter().enumerate() {
            if block.is_last() {
                let (out, rows) = block.out.at(token + at, row);
                put_results(trees(partials), out, rows);
                continue;
            }
            for (row, partial) in partials.iter().enumerate() {
                _mm512_store_ps(sums.add(at * together + row).cast(), *partial);
            }
        }
    }
}

/// Writes four results, or the first `room` of them if it is less.
///
/// # Safety
/// `out` is valid for writing that many.
#[target_feature(enable = "avx512f,avx512vl")]
#[inline]
unsafe fn put_results(results: __m128, out: *mut f32, room: usize) {
    // SAFETY: as the caller promises.
    unsafe {
        if room >= TILE_ROWS {
            _mm_storeu_ps(out, results);
        } else {
            let rows = (1_u8 << room) - 1;
            _mm_mask_storeu_ps(out, rows, results);
        }
    }
}

/// Multiplies a strip of four rows by a strip of each token, and adds the products to the partial sums. Types with a
/// scale per half of a group need one call for each half.
///
/// # Safety
/// `weights` and `x` are valid for all lines of a strip.
#[target_feature(enable = "avx512f,avx512bw,avx512dq,avx512vl,avx2,fma,f16c")]
#[cfg_attr(not(test), target_feature(enable = "avx512vnni"))]
#[inline]
unsafe fn add_tile<B: Blocks, const TOKENS: usize>(
    weights: *const Sixteen,
    x: *const Sixteen,
    half: usize,
    partials: &mut [[__m512; TILE_ROWS]; TOKENS],
) {
    let halves = if B::HALVES { 2 } else { 1 };
    let (of_rows, of_tokens) = (RowLines::of::<B>(), TokenLines::of::<B>());
    // SAFETY: as the caller promises; a line has 64 bytes and begins where one of the caches does.
    let weights = |line: usize| unsafe { &*weights.add(line) };
    // SAFETY: likewise.
    let x = |line: usize| unsafe { &*x.add(line) };
    let mut whole: [[__m512i; TILE_ROWS]; TOKENS] = std::array::from_fn(|token| {
        let start = match B::OFFSET {
            0 => _mm512_setzero_si512(),
            _ => load_words(x(of_tokens.sum_biases(half, token))),
        };
        [start; TILE_ROWS]
    });
    for step in half * REGISTERS / halves..(half + 1) * REGISTERS / halves {
        let quants: [__m512i; TILE_ROWS] =
            std::array::from_fn(|row| load_words(weights(of_rows.quants(step, row))));
        for (token, whole) in whole.iter_mut().enumerate() {
            let x = load_words(x(of_tokens.quants(step, token)));
            for (whole, quants) in whole.iter_mut().zip(quants) {
                *whole = wide_fours(*whole, quants, x);
            }
        }
    }
    for row in 0..TILE_ROWS {
        let scale = load_floats(weights(of_rows.scales(half, row)));
        let min = if B::MINIMA { load_floats(weights(of_rows.mins(half, row))) } else { scale };
        for (token, partials) in partials.iter_mut().enumerate() {
            let x_scale = x(of_tokens.scales(token));
            let x_low = if B::MINIMA { x(of_tokens.min_factors(half, token)) } else { x_scale };
            let whole = whole[token][row];
            partials[row] = add::<B>(partials[row], whole, scale, min, &x_scale.0, &x_low.0);
        }
    }
}

#[target_feature(enable = "avx512f")]
#[inline]
fn load_floats(line: &Sixteen) -> __m512 {
    // SAFETY: sixteen numbers, where a line of the caches begins.
    unsafe { _mm512_load_ps(line.0.as_ptr()) }
}

#[target_feature(enable = "avx512f")]
#[inline]
fn load_words(line: &Sixteen) -> __m512i {
    _mm512_castps_si512(load_floats(line))
}

/// [`tree`] of four rows at once.
#[target_feature(enable = "avx512f,avx512vl")]
#[inline]
fn trees(sums: &[__m512; TILE_ROWS]) -> __m128 {
    // Partial sums that are eight apart; two rows share a register, one in each half.
    let eight = |a: __m512, b: __m512| {
        let low = _mm512_shuffle_f32x4::<0x44>(a, b);
        _mm512_add_ps(low, _mm512_shuffle_f32x4::<0xEE>(a, b))
    };
    let (a, b) = (eight(sums[0], sums[1]), eight(sums[2], sums[3]));
    // Four apart; four rows share a register, one in each quarter.
    let low = _mm512_shuffle_f32x4::<0x88>(a, b);
    let four = _mm512_add_ps(low, _mm512_shuffle_f32x4::<0xDD>(a, b));
    // Two apart, then neighbours, within each quarter.
    let two = _mm512_add_ps(four, _mm512_shuffle_ps::<0x4E>(four, four));
    let one = _mm512_add_ps(two, _mm512_shuffle_ps::<0xB1>(two, two));
    // The first of each quarter.
    let order = _mm512_setr_epi32(0, 4, 8, 12, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0);
    _mm512_castps512_ps128(_mm512_permutexvar_ps(order, one))
}

const _: () = assert!(GROUP == 32 && STRIP_GROUPS == 16 && TILE_ROWS == 4);
