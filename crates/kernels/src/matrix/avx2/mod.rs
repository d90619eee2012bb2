//! 256-bit twins of [`super::scalar`]. Two registers hold the sixteen partial sums.

use std::arch::x86_64::*;
use std::ops::Range;

mod floats;
mod groups;

use deft_formats::quant::{Blocks, GROUP, STRIP, STRIP_GROUPS, Strip, unpack, unpack_scales};

use super::activations::Eighths;
use super::{PARTIALS, tree};
use crate::ahead::{AHEAD, ask_for};
use crate::sixteen::Sixteen;
use crate::team::Results;
pub(super) use floats::{
    Eights, ROWS as FLOAT_ROWS, TOKENS as FLOAT_TOKENS, multiply as multiply_floats,
    row as float_row,
};
pub(super) use groups::Narrow;

/// Groups whose integer sums fill one register.
const GROUPS: usize = 8;

/// Rows of a panel.
pub(super) const ROWS: usize = 8;

/// A strip of a row, taken apart for many tokens.
#[derive(Debug, Clone, Copy)]
#[repr(C, align(64))]
struct Taken {
    /// Four of each of sixteen groups, then the next four, as [`interleave`] says.
    quants: [u8; STRIP],
    /// Scales of groups, or of both halves of groups.
    scales: [[f32; STRIP_GROUPS]; 2],
    /// Likewise minima.
    mins: [[f32; STRIP_GROUPS]; 2],
}

/// The same strip of some rows.
#[derive(Debug)]
pub(super) struct Panel([Taken; ROWS]);

impl Default for Panel {
    fn default() -> Self {
        let none = [[0.0; STRIP_GROUPS]; 2];
        Self([Taken { quants: [0; STRIP], scales: none, mins: none }; ROWS])
    }
}

/// Takes blocks of a row apart.
#[target_feature(enable = "avx2,fma,f16c")]
fn take_apart<B: Narrow>(blocks: &[u8], strip: &mut Strip, taken: &mut Taken) {
    let groups = blocks.len() / B::BYTES * B::VALUES / GROUP;
    unpack_scales::<B>(blocks, strip);
    for eight in 0..STRIP_GROUPS / GROUPS {
        let quants = std::array::from_fn(|at| {
            let group = eight * GROUPS + at;
            // SAFETY: the group's block is there.
            let quants = (group < groups).then(|| unsafe { B::group(blocks.as_ptr(), group) });
            let quants = quants.unwrap_or(_mm256_set1_epi8(B::OFFSET.cast_signed()));
            if is_signed::<B>() { meant(quants) } else { quants }
        });
        put(words(quants), eight, &mut taken.quants);
    }
    for half in 0..if B::HALVES { 2 } else { 1 } {
        for first in [0, GROUPS] {
            let (scale, min) = scale_and_min::<B>(strip, half, first);
            // SAFETY: the arrays have two times eight entries.
            unsafe {
                _mm256_store_ps(taken.scales[half].as_mut_ptr().add(first), scale);
                _mm256_store_ps(taken.mins[half].as_mut_ptr().add(first), min);
            }
        }
    }
}

/// Quants of a strip of activations, group by group, in the order in which those of many tokens are multiplied:
/// four of each of sixteen groups, then the next four, so that sums of groups need no shuffles.
#[target_feature(enable = "avx2")]
pub(super) fn interleave(quants: &mut [i8; STRIP]) {
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

/// Writes words of eight groups to their places among those of sixteen.
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

/// Scales and minima of eight groups, or of their halves.
#[target_feature(enable = "avx2,fma,f16c")]
#[inline]
fn scale_and_min<B: Blocks>(strip: &Strip, half: usize, first: usize) -> (__m256, __m256) {
    // SAFETY: eight entries are read, from `first` on, of arrays that have sixteen.
    unsafe {
        let wide =
            |bits: &[u16; 16]| _mm256_cvtph_ps(_mm_loadu_si128(bits.as_ptr().add(first).cast()));
        let mut scale = wide(&strip.scale);
        let mut min = if B::MINIMA { wide(&strip.min) } else { _mm256_setzero_ps() };
        if B::SUB_SCALES {
            let whole = _mm_loadl_epi64(strip.scales[half].as_ptr().add(first).cast());
            scale = _mm256_mul_ps(scale, _mm256_cvtepi32_ps(_mm256_cvtepi8_epi32(whole)));
        }
        if B::SUB_SCALES && B::MINIMA {
            let whole = _mm_loadl_epi64(strip.mins[half].as_ptr().add(first).cast());
            min = _mm256_mul_ps(min, _mm256_cvtepi32_ps(_mm256_cvtepu8_epi32(whole)));
        }
        (scale, min)
    }
}

/// Adds a strip times activations, group by group, to the partial sums: the integer sums of both halves by the
/// first of eight groups, scales and minima by halves and that.
#[target_feature(enable = "avx2,fma,f16c")]
#[inline]
fn add_strip<B: Blocks>(
    sums: impl Fn(usize) -> [__m256i; 2],
    scales: impl Fn(usize, usize) -> (__m256, __m256),
    x: &Eighths,
    partials: &mut [f32; PARTIALS],
) {
    for (eight, partials) in partials.as_chunks_mut::<GROUPS>().0.iter_mut().enumerate() {
        let first = eight * GROUPS;
        let sums = sums(first);
        // SAFETY: eight entries are read, from `first` on, of arrays that have sixteen.
        unsafe {
            let mut partial = _mm256_loadu_ps(partials.as_ptr());
            let x_scales = _mm256_loadu_ps(x.scales.as_ptr().add(first));
            for half in 0..if B::HALVES { 2 } else { 1 } {
                let start = _mm256_loadu_si256(x.starts[half].as_ptr().add(first).cast());
                let sum = match (B::HALVES, is_signed::<B>()) {
                    (true, _) => _mm256_add_epi32(sums[half], start),
                    (false, true) => _mm256_add_epi32(sums[0], sums[1]),
                    (false, false) => _mm256_add_epi32(_mm256_add_epi32(sums[0], sums[1]), start),
                };
                let (scale, min) = scales(half, first);
                let factor = _mm256_mul_ps(scale, x_scales);
                partial = _mm256_fmadd_ps(_mm256_cvtepi32_ps(sum), factor, partial);
                if B::MINIMA {
                    let lows = _mm256_loadu_ps(x.lows[half].as_ptr().add(first));
                    partial = _mm256_fnmadd_ps(min, lows, partial);
                }
            }
            _mm256_storeu_ps(partials.as_mut_ptr(), partial);
        }
    }
}

/// The same of a strip that was taken apart.
#[target_feature(enable = "avx2,fma,f16c")]
#[inline]
fn add_taken<B: Blocks>(taken: &Taken, x: &Eighths, partials: &mut [f32; PARTIALS]) {
    let sums = |first: usize| {
        if B::HALVES {
            [side_by_side::<B>(taken, x, first, 0..4), side_by_side::<B>(taken, x, first, 4..8)]
        } else {
            [side_by_side::<B>(taken, x, first, 0..8), _mm256_setzero_si256()]
        }
    };
    // SAFETY: the arrays have two times eight entries.
    let scales = |half: usize, first: usize| unsafe {
        let of = |values: &[f32; STRIP_GROUPS]| _mm256_load_ps(values.as_ptr().add(first));
        (of(&taken.scales[half]), of(&taken.mins[half]))
    };
    add_strip::<B>(sums, scales, x, partials);
}

/// Exact integer sums of eight groups, of some of their words.
#[target_feature(enable = "avx2")]
#[inline]
fn side_by_side<B: Blocks>(
    taken: &Taken,
    x: &Eighths,
    first: usize,
    steps: Range<usize>,
) -> __m256i {
    let mut sum = _mm256_setzero_si256();
    for step in steps {
        let from = step * STRIP_GROUPS * 4 + first * 4;
        // SAFETY: both have 32 quants from there on.
        let (weights, values) = unsafe {
            (
                _mm256_load_si256(taken.quants.as_ptr().add(from).cast()),
                _mm256_load_si256(x.quants.as_ptr().add(from).cast()),
            )
        };
        sum = _mm256_add_epi32(sum, fours::<B>(weights, values));
    }
    sum
}

/// Whether quants are made signed again: as they are stored, pairs of products would not fit 16 bits.
const fn is_signed<B: Blocks>() -> bool {
    B::OFFSET == 128
}

/// Quants as they are meant that are stored 128 more.
#[target_feature(enable = "avx2")]
#[inline]
fn meant(quants: __m256i) -> __m256i {
    _mm256_xor_si256(quants, _mm256_set1_epi8(-128))
}

/// Sums of four products each: of quants as they are meant where [`is_signed`], else as they are stored.
#[target_feature(enable = "avx2")]
#[inline]
fn fours<B: Blocks>(weights: __m256i, values: __m256i) -> __m256i {
    let pairs = if is_signed::<B>() {
        // |w| x sign(x, w): unsigned times signed, pairs at most 2 x 128 x 127, so no saturation.
        _mm256_maddubs_epi16(_mm256_abs_epi8(weights), _mm256_sign_epi8(values, weights))
    } else {
        // At most 2 x 63 x 127.
        _mm256_maddubs_epi16(weights, values)
    };
    _mm256_madd_epi16(pairs, _mm256_set1_epi16(1))
}

/// Exact integer sums of the first and second halves of eight groups, in their order; of quants as they
/// are meant where [`is_signed`], else as they are stored.
#[target_feature(enable = "avx2")]
#[inline]
fn integer_sums<B: Blocks>(
    group: impl Fn(usize) -> __m256i,
    x: &Eighths,
    first: usize,
) -> [__m256i; 2] {
    let mut sums = [_mm256_setzero_si256(); GROUPS];
    for (at, sum) in sums.iter_mut().enumerate() {
        let weights = group(first + at);
        // SAFETY: there are 512 quants, 32 for each of sixteen groups.
        let values =
            unsafe { _mm256_loadu_si256(x.quants.as_ptr().add((first + at) * GROUP).cast()) };
        let weights = if is_signed::<B>() { meant(weights) } else { weights };
        *sum = fours::<B>(weights, values);
    }
    let quarter = |at: usize| {
        let left = _mm256_hadd_epi32(sums[at], sums[at + 1]);
        let right = _mm256_hadd_epi32(sums[at + 2], sums[at + 3]);
        _mm256_hadd_epi32(left, right)
    };
    let (low, high) = (quarter(0), quarter(4));
    [_mm256_permute2x128_si256::<0x20>(low, high), _mm256_permute2x128_si256::<0x31>(low, high)]
}

/// Rows of so many bytes times the activations of a token.
#[target_feature(enable = "avx2,fma,f16c")]
pub(super) fn rows<B: Narrow>(rows: &[u8], row_bytes: usize, x: &[Eighths], out: &mut [f32]) {
    let mut strip = Strip::default();
    for (row, out) in rows.chunks_exact(row_bytes).zip(out) {
        let mut partials = [0f32; PARTIALS];
        let mut strips = row.chunks_exact(STRIP / B::VALUES * B::BYTES);
        for (blocks, x) in strips.by_ref().zip(x) {
            ask_for::<B>(blocks, AHEAD);
            unpack_scales::<B>(blocks, &mut strip);
            // SAFETY: these are the blocks of sixteen groups.
            let group = |group: usize| unsafe { B::group(blocks.as_ptr(), group) };
            let scales = |half: usize, first: usize| scale_and_min::<B>(&strip, half, first);
            let sums = |first: usize| integer_sums::<B>(group, x, first);
            add_strip::<B>(sums, scales, x, &mut partials);
        }
        let rest = strips.remainder();
        if let Some(x) = x.last().filter(|_| !rest.is_empty()) {
            unpack::<B>(rest, &mut strip);
            // SAFETY: a strip has 32 quants of each of sixteen groups.
            let group = |group: usize| unsafe {
                _mm256_loadu_si256(strip.quants.as_ptr().add(group * GROUP).cast())
            };
            let scales = |half: usize, first: usize| scale_and_min::<B>(&strip, half, first);
            let sums = |first: usize| integer_sums::<B>(group, x, first);
            add_strip::<B>(sums, scales, x, &mut partials);
        }
        *out = tree(&partials);
    }
}

/// Rows of so many bytes, at most those of a panel, times the activations of some tokens: strips are taken apart
/// once for all of them, and a token's strip stays near while rows pass by.
///
/// # Safety
/// There is room for results of all rows; tokens are as many as results, one after the other, their quants in
/// the order of [`interleave`].
#[target_feature(enable = "avx2,fma,f16c")]
pub(super) unsafe fn panel<B: Narrow>(
    rows: &[u8],
    row_bytes: usize,
    x: &[Eighths],
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
        for (row, taken) in rows.chunks_exact(row_bytes).zip(&mut *panel) {
            let rest = &row[at * bytes..];
            // The strip in its place in the panel after this one.
            ask_for::<B>(rest, rows.len());
            take_apart::<B>(&rest[..bytes.min(rest.len())], strip, taken);
        }
        for (x, sums) in x.chunks_exact(strips).zip(sums.chunks_exact_mut(count)) {
            for (taken, sums) in panel.iter().zip(sums) {
                add_taken::<B>(taken, &x[at], &mut sums.0);
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
