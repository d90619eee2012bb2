//! Panels of rows of weights, which are unpacked once for many tokens and multiplied in tiles, with AVX2.

use std::arch::x86_64::*;

use deft_formats::quant::{GROUP, STRIP, STRIP_GROUPS, Strip, unpack_scales};

use super::{
    Dots, GROUPS, Narrow, Pairs, add, both, groups_in, is_signed, meant, pairs, scale_and_min,
    start,
};
use crate::matrix::activations::RoundedStrip;
use crate::matrix::tree;
use crate::prefetch::prefetch_strip;
use crate::sixteen::Sixteen;
use crate::team::Results;

/// Number of rows of a panel.
pub(in crate::matrix) const ROWS: usize = 8;

/// An unpacked strip of a row.
#[derive(Debug, Clone, Copy)]
#[repr(C, align(64))]
struct Taken {
    /// Four quants of each of sixteen groups, then the next four, as [`interleave`] orders them.
    quants: [u8; STRIP],
    /// Scales of groups, or of their halves.
    scales: [[f32; STRIP_GROUPS]; 2],
    /// Minima, likewise.
    mins: [[f32; STRIP_GROUPS]; 2],
}

/// The same strip of some rows.
#[derive(Debug)]
pub(in crate::matrix) struct Panel([Taken; ROWS]);

impl Default for Panel {
    fn default() -> Self {
        let none = [[0.0; STRIP_GROUPS]; 2];
        Self([Taken { quants: [0; STRIP], scales: none, mins: none }; ROWS])
    }
}

/// Number of rows of a tile.
const TILE_ROWS: usize = 2;
/// Number of tokens of a tile.
const TILE_TOKENS: usize = 3;
/// Number of words of a group: a strip has this many times four quants of each of sixteen groups.
const WORDS: usize = GROUP / 4;

/// Unpacks blocks of a row.
#[target_feature(enable = "avx2,fma,f16c")]
fn take_apart<B: Narrow, D: Dots>(blocks: &[u8], strip: &mut Strip, taken: &mut Taken) {
    let groups = groups_in::<B>(blocks.len());
    unpack_scales::<B>(blocks, strip);
    for eight in 0..groups.div_ceil(GROUPS) {
        let quants = std::array::from_fn(|at| {
            let group = eight * GROUPS + at;
            // SAFETY: the group's block is there.
            let quants = (group < groups).then(|| unsafe { B::group(blocks.as_ptr(), group) });
            let quants = quants.unwrap_or(_mm256_set1_epi8(B::OFFSET.cast_signed()));
            if is_signed::<B, D>() { meant(quants) } else { quants }
        });
        put(words(quants), eight, &mut taken.quants);
    }
    for half in 0..if B::HALVES { 2 } else { 1 } {
        for first in (0..groups).step_by(GROUPS) {
            let (scale, min) = scale_and_min::<B>(strip, half, first);
            // SAFETY: the arrays have two times eight entries.
            unsafe {
                _mm256_store_ps(taken.scales[half].as_mut_ptr().add(first), scale);
                _mm256_store_ps(taken.mins[half].as_mut_ptr().add(first), min);
            }
        }
    }
}

/// Reorders the quants of a strip of activations for many tokens: four of each of sixteen groups, then the next four, so
/// that sums of groups need no shuffles.
#[target_feature(enable = "avx2")]
pub(in crate::matrix) fn interleave(quants: &mut [i8; STRIP]) {
    let before = *quants;
    for eight in 0..STRIP_GROUPS / GROUPS {
        let groups = std::array::from_fn(|at| {
            let from = (eight * GROUPS + at) * GROUP;
            // SAFETY: there are 32 quants of each of sixteen groups.
            unsafe { _mm256_loadu_si256(before.as_ptr().add(from).cast()) }
        });
        put(words(groups), eight, bytemuck::cast_mut(quants));
    }
}

/// Writes the words of eight groups among those of sixteen groups.
#[target_feature(enable = "avx2")]
#[inline]
fn put(words: [__m256i; GROUPS], eight: usize, quants: &mut [u8; STRIP]) {
    for (step, words) in words.into_iter().enumerate() {
        // SAFETY: there are two times 32 bytes for each step.
        unsafe {
            let place = quants.as_mut_ptr().add((step * 2 + eight) * GROUP);
            _mm256_storeu_si256(place.cast(), words);
        }
    }
}

/// Word `k` of eight registers side by side, for each `k`.
#[target_feature(enable = "avx2")]
#[inline]
fn words(groups: [__m256i; GROUPS]) -> [__m256i; GROUPS] {
    // In both halves of a register: words of four groups, four registers for each four groups.
    let four = |first: usize| {
        let pair = |at: usize| {
            let (a, b) = (groups[first + at], groups[first + at + 1]);
            (_mm256_unpacklo_epi32(a, b), _mm256_unpackhi_epi32(a, b))
        };
        let ((a, b), (c, d)) = (pair(0), pair(2));
        [
            _mm256_unpacklo_epi64(a, c),
            _mm256_unpackhi_epi64(a, c),
            _mm256_unpacklo_epi64(b, d),
            _mm256_unpackhi_epi64(b, d),
        ]
    };
    let (low, high) = (four(0), four(4));
    std::array::from_fn(|step| {
        let (a, b) = (low[step % 4], high[step % 4]);
        if step < 4 {
            _mm256_permute2x128_si256::<0x20>(a, b)
        } else {
            _mm256_permute2x128_si256::<0x31>(a, b)
        }
    })
}

/// Multiplies rows of `row_bytes` bytes, at most those of a panel, by the activations of some tokens. Strips are unpacked
/// once for all tokens, and a token's strip stays in the L1 cache while all rows are read.
///
/// # Safety
/// There is room for results of all rows; tokens are as many as results, one after the other, their quants in
/// the order of [`interleave`].
#[target_feature(enable = "avx2,fma,f16c")]
pub(in crate::matrix) unsafe fn panel<B: Narrow, D: Dots>(
    rows: &[u8],
    row_bytes: usize,
    x: &[RoundedStrip],
    space: (&mut Strip, &mut Panel, &mut Vec<Sixteen>),
    out: &Results<'_>,
) {
    let (strip, Panel(panel), sums) = space;
    let (count, tokens) = (rows.len() / row_bytes, out.tokens());
    let panel = &mut panel[..count];
    sums.clear();
    sums.resize(tokens * count, Sixteen::default());
    let (strips, bytes) = (x.len() / tokens, STRIP / B::VALUES * B::BYTES);
    for at in 0..strips {
        let groups = groups_in::<B>(row_bytes - at * bytes);
        for (row, taken) in rows.chunks_exact(row_bytes).zip(&mut *panel) {
            let rest = &row[at * bytes..];
            // The same strip of the next panel.
            prefetch_strip::<B>(rest, rows.len());
            take_apart::<B, D>(&rest[..bytes.min(rest.len())], strip, taken);
        }
        for token in (0..tokens).step_by(TILE_TOKENS) {
            let x = &x[token * strips + at..];
            let sums = &mut sums[token * count..];
            let tile = Tile { panel, x, strips, sums, count, groups };
            // SAFETY: the tile's tokens and rows exist, as the caller promises.
            unsafe {
                match tokens - token {
                    1 => tile.pass::<B, D, 1>(),
                    2 => tile.pass::<B, D, 2>(),
                    _ => tile.pass::<B, D, TILE_TOKENS>(),
                }
            }
        }
    }
    for (token, sums) in sums.chunks_exact(count).enumerate() {
        for (row, sums) in sums.iter().enumerate() {
            // SAFETY: as the caller promises.
            unsafe { out.at(token, row).0.write(tree(&sums.0)) };
        }
    }
}

/// Some tokens of a panel.
struct Tile<'a> {
    panel: &'a [Taken],
    /// Strip of the first token, and the distance to that of the next token.
    x: &'a [RoundedStrip],
    strips: usize,
    /// Partial sums, token by token, with this many rows each.
    sums: &'a mut [Sixteen],
    count: usize,
    /// Number of groups of the strip; the others are zero.
    groups: usize,
}

impl Tile<'_> {
    /// Multiplies all rows by `TOKENS` tokens.
    ///
    /// # Safety
    /// There are that many tokens.
    #[target_feature(enable = "avx2,fma,f16c")]
    unsafe fn pass<B: Narrow, D: Dots, const TOKENS: usize>(mut self) {
        let mut row = 0;
        while row < self.count {
            // SAFETY: that many rows are left; tokens as the caller promises.
            row += unsafe {
                match self.count - row {
                    1 => self.add::<B, D, 1, TOKENS>(row),
                    _ => self.add::<B, D, TILE_ROWS, TOKENS>(row),
                }
            };
        }
    }

    /// Multiplies a strip of some rows by one of some tokens, and adds the products to the partial sums. Returns the number
    /// of rows.
    ///
    /// # Safety
    /// There are that many rows from this one on, and that many tokens.
    #[target_feature(enable = "avx2,fma,f16c")]
    #[inline]
    unsafe fn add<B: Narrow, D: Dots, const ROWS: usize, const TOKENS: usize>(
        &mut self,
        row: usize,
    ) -> usize {
        // SAFETY: as the caller promises.
        let (taken, x): ([&Taken; ROWS], [&RoundedStrip; TOKENS]) = unsafe {
            (
                std::array::from_fn(|at| self.panel.get_unchecked(row + at)),
                std::array::from_fn(|token| self.x.get_unchecked(token * self.strips)),
            )
        };
        if self.groups <= GROUPS {
            // Zeros are added too, because they change the sign of a negative zero.
            for token in 0..TOKENS {
                for sums in &mut self.sums[token * self.count + row..][..ROWS] {
                    sums.0[GROUPS..].iter_mut().for_each(|sum| *sum += 0.0);
                }
            }
        }
        for first in (0..self.groups).step_by(GROUPS) {
            for half in 0..if B::HALVES { 2 } else { 1 } {
                let whole = integer_sums::<B, D, ROWS, TOKENS>(taken, x, half, first);
                for (token, (whole, x)) in whole.into_iter().zip(x).enumerate() {
                    for (at, (whole, taken)) in whole.into_iter().zip(taken).enumerate() {
                        // SAFETY: sums are there for each row of each token; of sixteen entries eight are read or
                        // written.
                        unsafe {
                            let sums = self.sums.get_unchecked_mut(token * self.count + row + at);
                            let place = sums.0.as_mut_ptr().add(first);
                            let scale = _mm256_load_ps(taken.scales[half].as_ptr().add(first));
                            let min = _mm256_load_ps(taken.mins[half].as_ptr().add(first));
                            let x = (&x.scales, &x.min_factors[half]);
                            let partial = _mm256_load_ps(place);
                            let partial = add::<B>(partial, whole, (scale, min), x, first);
                            _mm256_store_ps(place, partial);
                        }
                    }
                }
            }
        }
        ROWS
    }
}

/// Exact integer sums of eight groups of each row and token, or of one of their halves.
#[target_feature(enable = "avx2,fma,f16c")]
#[inline]
fn integer_sums<B: Narrow, D: Dots, const ROWS: usize, const TOKENS: usize>(
    taken: [&Taken; ROWS],
    x: [&RoundedStrip; TOKENS],
    half: usize,
    first: usize,
) -> [[__m256i; ROWS]; TOKENS] {
    let halves = if B::HALVES { 2 } else { 1 };
    let steps = half * WORDS / halves..(half + 1) * WORDS / halves;
    let mut whole = x.map(|x| [start::<B, D>(x, half, first); ROWS]);
    if D::WHOLE {
        for step in steps {
            let at = step * STRIP_GROUPS * 4 + first * 4;
            // SAFETY: there are 32 quants from there on; the caller's path has the instruction.
            unsafe {
                let load = |quants: *const u8| _mm256_load_si256(quants.add(at).cast());
                let weights = taken.map(|taken| load(taken.quants.as_ptr()));
                for (whole, x) in whole.iter_mut().zip(x) {
                    let values = load(x.quants.as_ptr().cast());
                    for (sums, weights) in whole.iter_mut().zip(weights) {
                        *sums = D::add(*sums, weights, values);
                    }
                }
            }
        }
        return whole;
    }
    for from in steps.clone().step_by(together::<B>()) {
        let mut sixteens = [[_mm256_setzero_si256(); ROWS]; TOKENS];
        for step in from..steps.end.min(from + together::<B>()) {
            let at = step * STRIP_GROUPS * 4 + first * 4;
            // SAFETY: there are 32 quants from there on.
            let load = |quants: *const u8| unsafe { _mm256_load_si256(quants.add(at).cast()) };
            let weights = taken.map(|taken| load(taken.quants.as_ptr()));
            for (sixteens, x) in sixteens.iter_mut().zip(x) {
                let values = load(x.quants.as_ptr().cast());
                for (sums, weights) in sixteens.iter_mut().zip(weights) {
                    *sums = _mm256_add_epi16(*sums, pairs::<B>(weights, values));
                }
            }
        }
        for (whole, sixteens) in whole.as_flattened_mut().iter_mut().zip(sixteens.as_flattened()) {
            *whole = _mm256_add_epi32(*whole, both(*sixteens));
        }
    }
    whole
}

/// Steps whose [`pairs`] are within 16 bits together, whatever they are.
const fn together<B: Narrow>() -> usize {
    let most = if is_signed::<B, Pairs>() { 128 } else { B::MOST as usize };
    let steps = i16::MAX as usize / (2 * 127 * most);
    if steps < WORDS { steps } else { WORDS }
}
