//! Matrix products with AVX2, bit for bit equal to [`super::scalar`]. Two registers hold the sixteen partial sums.

use std::arch::x86_64::*;

mod dots;
mod floats;
mod groups;
mod panel;

use deft_formats::quant::{Blocks, GROUP, STRIP, STRIP_GROUPS, Strip, unpack_scales};

use super::activations::RoundedStrip;
use super::{PARTIALS, tree};
use crate::prefetch::{PREFETCH_DISTANCE, prefetch_strip};
pub(super) use dots::{Dots, Fours, Pairs};
pub(super) use floats::{
    Eights, ROWS as FLOAT_ROWS, TOKENS as FLOAT_TOKENS, multiply as multiply_floats,
    row as float_row,
};
pub(super) use groups::Narrow;
pub(super) use panel::{Panel, ROWS, interleave, panel};

/// Number of groups whose integer sums fill one register.
const GROUPS: usize = 8;

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

/// Adds eight scaled integer sums, of groups or of their halves, to the partial sums, and subtracts the minima.
#[target_feature(enable = "avx2,fma,f16c")]
#[inline]
fn add<B: Blocks>(
    partial: __m256,
    sums: __m256i,
    (scale, min): (__m256, __m256),
    (x_scales, x_lows): (&[f32; STRIP_GROUPS], &[f32; STRIP_GROUPS]),
    first: usize,
) -> __m256 {
    // SAFETY: eight entries are read, from `first` on, of arrays that have sixteen.
    unsafe {
        let factor = _mm256_mul_ps(scale, _mm256_loadu_ps(x_scales.as_ptr().add(first)));
        let partial = _mm256_fmadd_ps(_mm256_cvtepi32_ps(sums), factor, partial);
        if !B::MINIMA {
            return partial;
        }
        _mm256_fnmadd_ps(min, _mm256_loadu_ps(x_lows.as_ptr().add(first)), partial)
    }
}

/// Bias of the integer sums of eight groups, or of their halves.
#[target_feature(enable = "avx2")]
#[inline]
fn start<B: Blocks, D: Dots>(x: &RoundedStrip, half: usize, first: usize) -> __m256i {
    if B::OFFSET == 0 || is_signed::<B, D>() {
        return _mm256_setzero_si256();
    }
    // SAFETY: eight entries are read, from `first` on, of sixteen.
    unsafe { _mm256_loadu_si256(x.sum_biases[half].as_ptr().add(first).cast()) }
}

/// Number of groups in the first `bytes` bytes of a strip.
fn groups_in<B: Blocks>(bytes: usize) -> usize {
    (bytes / B::BYTES * B::VALUES / GROUP).min(STRIP_GROUPS)
}

/// Multiplies the groups of a strip by activations, and adds the products to the partial sums.
#[target_feature(enable = "avx2,fma,f16c")]
#[inline]
fn add_strip<B: Blocks, D: Dots>(
    group: impl Fn(usize) -> __m256i,
    groups: usize,
    strip: &Strip,
    x: &RoundedStrip,
    partials: &mut [f32; PARTIALS],
) {
    for (eight, partials) in partials.as_chunks_mut::<GROUPS>().0.iter_mut().enumerate() {
        let first = eight * GROUPS;
        if first >= groups {
            // Zeros are added too, because they change the sign of a negative zero.
            partials.iter_mut().for_each(|partial| *partial += 0.0);
            continue;
        }
        let mut sums = integer_sums::<B, D>(&group, x, first);
        if !B::HALVES {
            sums[0] = _mm256_add_epi32(sums[0], sums[1]);
        }
        // SAFETY: eight entries are read and written.
        unsafe {
            let mut partial = _mm256_loadu_ps(partials.as_ptr());
            for (half, sums) in sums.into_iter().enumerate().take(if B::HALVES { 2 } else { 1 }) {
                let sums = _mm256_add_epi32(sums, start::<B, D>(x, half, first));
                let scales = scale_and_min::<B>(strip, half, first);
                partial = add::<B>(partial, sums, scales, (&x.scales, &x.min_factors[half]), first);
            }
            _mm256_storeu_ps(partials.as_mut_ptr(), partial);
        }
    }
}

/// Whether the offset of stored quants is subtracted: with it, pairs of products would not fit 16 bits.
const fn is_signed<B: Blocks, D: Dots>() -> bool {
    B::OFFSET == 128 && !D::WHOLE
}

/// Quants without their offset of 128.
#[target_feature(enable = "avx2")]
#[inline]
fn meant(quants: __m256i) -> __m256i {
    _mm256_xor_si256(quants, _mm256_set1_epi8(-128))
}

/// Sums of two products each, within 16 bits: of quants without offset if [`is_signed`], otherwise of stored quants.
#[target_feature(enable = "avx2")]
#[inline]
fn pairs<B: Blocks>(weights: __m256i, values: __m256i) -> __m256i {
    if is_signed::<B, Pairs>() {
        // |w| x sign(x, w): unsigned times signed, at most 2 x 128 x 127, so no saturation.
        _mm256_maddubs_epi16(_mm256_abs_epi8(weights), _mm256_sign_epi8(values, weights))
    } else {
        // At most 2 x 63 x 127.
        _mm256_maddubs_epi16(weights, values)
    }
}

/// Sums of two neighbours of sixteen each.
#[target_feature(enable = "avx2")]
#[inline]
fn both(pairs: __m256i) -> __m256i {
    _mm256_madd_epi16(pairs, _mm256_set1_epi16(1))
}

/// Exact integer sums of the first and second halves of eight groups, in order; of quants without offset if
/// [`is_signed`], otherwise of stored quants.
#[target_feature(enable = "avx2")]
#[inline]
fn integer_sums<B: Blocks, D: Dots>(
    group: impl Fn(usize) -> __m256i,
    x: &RoundedStrip,
    first: usize,
) -> [__m256i; 2] {
    let mut sums = [_mm256_setzero_si256(); GROUPS];
    for (at, sum) in sums.iter_mut().enumerate() {
        let weights = group(first + at);
        // SAFETY: there are 512 quants, 32 for each of sixteen groups.
        let values =
            unsafe { _mm256_loadu_si256(x.quants.as_ptr().add((first + at) * GROUP).cast()) };
        if D::WHOLE {
            // SAFETY: the caller's path has the instruction.
            *sum = unsafe { D::add(*sum, weights, values) };
            continue;
        }
        let weights = if is_signed::<B, D>() { meant(weights) } else { weights };
        *sum = both(pairs::<B>(weights, values));
    }
    let quarter = |at: usize| {
        let left = _mm256_hadd_epi32(sums[at], sums[at + 1]);
        let right = _mm256_hadd_epi32(sums[at + 2], sums[at + 3]);
        _mm256_hadd_epi32(left, right)
    };
    let (low, high) = (quarter(0), quarter(4));
    [_mm256_permute2x128_si256::<0x20>(low, high), _mm256_permute2x128_si256::<0x31>(low, high)]
}

/// Multiplies rows of `row_bytes` bytes by the activations of a token.
#[target_feature(enable = "avx2,fma,f16c")]
pub(super) fn rows<B: Narrow, D: Dots>(
    rows: &[u8],
    row_bytes: usize,
    x: &[RoundedStrip],
    out: &mut [f32],
) {
    let mut strip = Strip::default();
    for (row, out) in rows.chunks_exact(row_bytes).zip(out) {
        let mut partials = [0f32; PARTIALS];
        let mut strips = row.chunks_exact(STRIP / B::VALUES * B::BYTES);
        for (blocks, x) in strips.by_ref().zip(x) {
            prefetch_strip::<B>(blocks, PREFETCH_DISTANCE);
            unpack_scales::<B>(blocks, &mut strip);
            // SAFETY: these are the blocks of sixteen groups.
            let group = |group: usize| unsafe { B::group(blocks.as_ptr(), group) };
            add_strip::<B, D>(group, STRIP_GROUPS, &strip, x, &mut partials);
        }
        let rest = strips.remainder();
        if let Some(x) = x.last().filter(|_| !rest.is_empty()) {
            unpack_scales::<B>(rest, &mut strip);
            let groups = groups_in::<B>(rest.len());
            let group = |group: usize| {
                // SAFETY: the group's block is there.
                let quants = (group < groups).then(|| unsafe { B::group(rest.as_ptr(), group) });
                quants.unwrap_or(_mm256_set1_epi8(B::OFFSET.cast_signed()))
            };
            add_strip::<B, D>(group, groups, &strip, x, &mut partials);
        }
        *out = tree(&partials);
    }
}
