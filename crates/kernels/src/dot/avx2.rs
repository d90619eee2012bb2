//! 256-bit twins of [`super::scalar`]. Two registers hold the sixteen partial sums.

use std::arch::x86_64::*;

use deft_formats::quant::Group;

use super::{BLOCK, PARTIALS, Q8_BYTES, scalar, tree};

/// Blocks whose integer sums fill one register.
const GROUP: usize = 8;

/// # Safety
/// The processor has AVX2, FMA and F16C.
#[target_feature(enable = "avx2,fma,f16c")]
fn finish(low: __m256, high: __m256, tail: impl Iterator<Item = (usize, f32, f32)>) -> f32 {
    let mut partials = [0f32; PARTIALS];
    // SAFETY: the array has room for both registers; unaligned stores have no further demand.
    unsafe {
        _mm256_storeu_ps(partials.as_mut_ptr(), low);
        _mm256_storeu_ps(partials.as_mut_ptr().add(8), high);
    }
    for (at, weight, value) in tail {
        partials[at] = weight.mul_add(value, partials[at]);
    }
    tree(&partials)
}

/// # Safety
/// The processor has AVX2, FMA and F16C; `row` holds `4 * x.len()` bytes.
#[target_feature(enable = "avx2,fma,f16c")]
pub(super) unsafe fn f32_row(row: &[u8], x: &[f32]) -> f32 {
    let (mut low, mut high) = (_mm256_setzero_ps(), _mm256_setzero_ps());
    let whole = x.len() / PARTIALS * PARTIALS;
    for at in (0..whole).step_by(PARTIALS) {
        // SAFETY: `at + 16 <= whole <= x.len()`, and the row holds four bytes for each.
        unsafe {
            let weights = row.as_ptr().add(at * 4).cast::<f32>();
            let values = x.as_ptr().add(at);
            low = _mm256_fmadd_ps(_mm256_loadu_ps(weights), _mm256_loadu_ps(values), low);
            let (weights, values) = (weights.add(8), values.add(8));
            high = _mm256_fmadd_ps(_mm256_loadu_ps(weights), _mm256_loadu_ps(values), high);
        }
    }
    let tail = row[whole * 4..].as_chunks::<4>().0.iter().zip(&x[whole..]).enumerate();
    finish(low, high, tail.map(|(at, (word, value))| (at, f32::from_le_bytes(*word), *value)))
}

/// # Safety
/// The processor has AVX2, FMA and F16C; `row` holds `2 * x.len()` bytes.
#[target_feature(enable = "avx2,fma,f16c")]
pub(super) unsafe fn f16_row(row: &[u8], x: &[f32]) -> f32 {
    let (mut low, mut high) = (_mm256_setzero_ps(), _mm256_setzero_ps());
    let whole = x.len() / PARTIALS * PARTIALS;
    for at in (0..whole).step_by(PARTIALS) {
        // SAFETY: `at + 16 <= whole <= x.len()`, and the row holds two bytes for each.
        unsafe {
            let weights = row.as_ptr().add(at * 2).cast::<__m128i>();
            let values = x.as_ptr().add(at);
            let first = _mm256_cvtph_ps(_mm_loadu_si128(weights));
            low = _mm256_fmadd_ps(first, _mm256_loadu_ps(values), low);
            let second = _mm256_cvtph_ps(_mm_loadu_si128(weights.add(1)));
            high = _mm256_fmadd_ps(second, _mm256_loadu_ps(values.add(8)), high);
        }
    }
    let tail = row[whole * 2..].as_chunks::<2>().0.iter().zip(&x[whole..]).enumerate();
    finish(
        low,
        high,
        tail.map(|(at, (word, value))| (at, half::f16::from_le_bytes(*word).to_f32(), *value)),
    )
}

/// # Safety
/// The processor has AVX2, FMA and F16C; the three slices hold the same number of blocks and
/// `quants` no -128.
#[target_feature(enable = "avx2,fma,f16c")]
pub(super) unsafe fn q8_0_row(row: &[u8], quants: &[i8], scales: &[f32]) -> f32 {
    let mut halves = [_mm256_setzero_ps(); 2];
    let groups = scales.len() / GROUP;
    for group in 0..groups {
        let first = group * GROUP;
        // SAFETY: blocks `first..first + 8` exist in all three slices.
        unsafe {
            let stored = row.as_ptr().add(first * Q8_BYTES);
            let sums = group_sums(stored, quants.as_ptr().add(first * BLOCK));
            let mut weight_scales = [0u16; GROUP];
            for (at, scale) in weight_scales.iter_mut().enumerate() {
                *scale = stored.add(at * Q8_BYTES).cast::<u16>().read_unaligned();
            }
            let weight_scales = _mm256_cvtph_ps(_mm_loadu_si128(weight_scales.as_ptr().cast()));
            let product = _mm256_mul_ps(weight_scales, _mm256_loadu_ps(scales.as_ptr().add(first)));
            let half = &mut halves[group % 2];
            *half = _mm256_fmadd_ps(_mm256_cvtepi32_ps(sums), product, *half);
        }
    }
    let mut partials = [0f32; PARTIALS];
    // SAFETY: the array has room for both registers.
    unsafe {
        _mm256_storeu_ps(partials.as_mut_ptr(), halves[0]);
        _mm256_storeu_ps(partials.as_mut_ptr().add(8), halves[1]);
    }
    let done = groups * GROUP;
    let rest = &row[done * Q8_BYTES..];
    scalar::blocks(rest, &quants[done * BLOCK..], &scales[done..], done, &mut partials);
    tree(&partials)
}

/// # Safety
/// The processor has AVX2, FMA and F16C; `row` holds `2 * x.len()` bytes.
#[target_feature(enable = "avx2,fma,f16c")]
pub(super) unsafe fn bf16_row(row: &[u8], x: &[f32]) -> f32 {
    let (mut low, mut high) = (_mm256_setzero_ps(), _mm256_setzero_ps());
    let whole = x.len() / PARTIALS * PARTIALS;
    let wide =
        |half: __m128i| _mm256_castsi256_ps(_mm256_slli_epi32::<16>(_mm256_cvtepu16_epi32(half)));
    for at in (0..whole).step_by(PARTIALS) {
        // SAFETY: `at + 16 <= whole <= x.len()`, and the row holds two bytes for each.
        unsafe {
            let weights = row.as_ptr().add(at * 2).cast::<__m128i>();
            let values = x.as_ptr().add(at);
            low = _mm256_fmadd_ps(wide(_mm_loadu_si128(weights)), _mm256_loadu_ps(values), low);
            let second = wide(_mm_loadu_si128(weights.add(1)));
            high = _mm256_fmadd_ps(second, _mm256_loadu_ps(values.add(8)), high);
        }
    }
    let tail = row[whole * 2..].as_chunks::<2>().0.iter().zip(&x[whole..]).enumerate();
    let value = |word: &[u8; 2]| f32::from_bits(u32::from(u16::from_le_bytes(*word)) << 16);
    finish(low, high, tail.map(|(at, (word, x))| (at, value(word), *x)))
}

/// # Safety
/// The processor has AVX2, FMA and F16C; all slices hold the same number of groups and `quants` no
/// -128.
#[target_feature(enable = "avx2,fma,f16c")]
pub(super) unsafe fn group_row(row: &[Group], quants: &[i8], scales: &[f32], sums: &[i16]) -> f32 {
    let mut halves = [_mm256_setzero_ps(); 2];
    let whole = scales.len() / GROUP;
    for part in 0..whole {
        let first = part * GROUP;
        let groups = &row[first..first + GROUP];
        let mut weight_scales = [0f32; GROUP];
        let mut weight_mins = [0f32; GROUP];
        let mut below = [0i32; GROUP];
        for (at, group) in groups.iter().enumerate() {
            weight_scales[at] = group.scale;
            weight_mins[at] = group.min;
            let sums = &sums[(first + at) * 2..][..2];
            below[at] = i32::from(group.mins[0]) * i32::from(sums[0])
                + i32::from(group.mins[1]) * i32::from(sums[1]);
        }
        // SAFETY: eight groups and their 256 quants and eight scales exist; the arrays have eight.
        unsafe {
            let products = unpacked_sums(groups, quants.as_ptr().add(first * BLOCK));
            let scale = _mm256_loadu_ps(scales.as_ptr().add(first));
            let factor = _mm256_mul_ps(_mm256_loadu_ps(weight_scales.as_ptr()), scale);
            let half = &mut halves[part % 2];
            *half = _mm256_fmadd_ps(_mm256_cvtepi32_ps(products), factor, *half);
            let below = _mm256_cvtepi32_ps(_mm256_loadu_si256(below.as_ptr().cast()));
            let factor = _mm256_mul_ps(_mm256_loadu_ps(weight_mins.as_ptr()), scale);
            *half = _mm256_fnmadd_ps(below, factor, *half);
        }
    }
    let mut partials = [0f32; PARTIALS];
    // SAFETY: the array has room for both registers.
    unsafe {
        _mm256_storeu_ps(partials.as_mut_ptr(), halves[0]);
        _mm256_storeu_ps(partials.as_mut_ptr().add(8), halves[1]);
    }
    let done = whole * GROUP;
    let (quants, sums) = (&quants[done * BLOCK..], &sums[done * 2..]);
    scalar::groups(&row[done..], quants, &scales[done..], sums, done, &mut partials);
    tree(&partials)
}

/// Exact integer sums of eight groups, each half weighted by its integer scale, in their order.
///
/// # Safety
/// AVX2; there are eight groups and 256 quants can be read.
#[target_feature(enable = "avx2")]
#[inline]
unsafe fn unpacked_sums(groups: &[Group], quants: *const i8) -> __m256i {
    let mut sums = [_mm256_setzero_si256(); GROUP];
    for (at, (sum, group)) in sums.iter_mut().zip(groups).enumerate() {
        // SAFETY: a group has 32 quants, and so have the activations at its place.
        let (weights, values) = unsafe {
            (
                _mm256_loadu_si256(group.quants.as_ptr().cast()),
                _mm256_loadu_si256(quants.add(at * BLOCK).cast()),
            )
        };
        let scales =
            _mm256_set_m128i(_mm_set1_epi16(group.scales[1]), _mm_set1_epi16(group.scales[0]));
        // As in `group_sums`: pairs stay below 2^15; times a scale they fit 32 bits.
        let pairs =
            _mm256_maddubs_epi16(_mm256_abs_epi8(weights), _mm256_sign_epi8(values, weights));
        *sum = _mm256_madd_epi16(pairs, scales);
    }
    gather(&sums)
}

/// Exact integer sums of eight neighbouring blocks, in their order.
///
/// # Safety
/// AVX2; eight stored blocks and 256 quants can be read.
#[target_feature(enable = "avx2")]
#[inline]
unsafe fn group_sums(stored: *const u8, quants: *const i8) -> __m256i {
    let ones = _mm256_set1_epi16(1);
    let mut sums = [_mm256_setzero_si256(); GROUP];
    for (at, sum) in sums.iter_mut().enumerate() {
        // SAFETY: block `at` of eight; its 32 bytes follow the two of the scale.
        let (weights, values) = unsafe {
            (
                _mm256_loadu_si256(stored.add(at * Q8_BYTES + 2).cast()),
                _mm256_loadu_si256(quants.add(at * BLOCK).cast()),
            )
        };
        // |w| x sign(x, w): unsigned times signed, pairs at most 2 x 128 x 127, so no saturation.
        let pairs =
            _mm256_maddubs_epi16(_mm256_abs_epi8(weights), _mm256_sign_epi8(values, weights));
        *sum = _mm256_madd_epi16(pairs, ones);
    }
    gather(&sums)
}

/// The sum of each register's eight lanes, in order.
#[target_feature(enable = "avx2")]
#[inline]
fn gather(sums: &[__m256i; GROUP]) -> __m256i {
    let quarter = |at: usize| {
        let left = _mm256_hadd_epi32(sums[at], sums[at + 1]);
        let right = _mm256_hadd_epi32(sums[at + 2], sums[at + 3]);
        _mm256_hadd_epi32(left, right)
    };
    let (first, second) = (quarter(0), quarter(4));
    _mm256_add_epi32(
        _mm256_permute2x128_si256::<0x20>(first, second),
        _mm256_permute2x128_si256::<0x31>(first, second),
    )
}

/// # Safety
/// The processor has AVX2 and FMA; `row` holds `4 * out.len()` bytes.
#[target_feature(enable = "avx2,fma")]
pub(super) unsafe fn add_scaled_f32(row: &[u8], weight: f32, out: &mut [f32]) {
    let factor = _mm256_set1_ps(weight);
    let whole = out.len() / 8 * 8;
    for at in (0..whole).step_by(8) {
        // SAFETY: `at + 8 <= whole <= out.len()`, and the row holds four bytes for each.
        unsafe {
            let values = _mm256_loadu_ps(row.as_ptr().add(at * 4).cast());
            let sums = out.as_mut_ptr().add(at);
            _mm256_storeu_ps(sums, _mm256_fmadd_ps(factor, values, _mm256_loadu_ps(sums)));
        }
    }
    scalar::add_scaled_f32(&row[whole * 4..], weight, &mut out[whole..]);
}

/// # Safety
/// The processor has AVX2, FMA and F16C; `row` holds `2 * out.len()` bytes.
#[target_feature(enable = "avx2,fma,f16c")]
pub(super) unsafe fn add_scaled_f16(row: &[u8], weight: f32, out: &mut [f32]) {
    let factor = _mm256_set1_ps(weight);
    let whole = out.len() / 8 * 8;
    for at in (0..whole).step_by(8) {
        // SAFETY: `at + 8 <= whole <= out.len()`, and the row holds two bytes for each.
        unsafe {
            let values = _mm256_cvtph_ps(_mm_loadu_si128(row.as_ptr().add(at * 2).cast()));
            let sums = out.as_mut_ptr().add(at);
            _mm256_storeu_ps(sums, _mm256_fmadd_ps(factor, values, _mm256_loadu_ps(sums)));
        }
    }
    scalar::add_scaled_f16(&row[whole * 2..], weight, &mut out[whole..]);
}

/// # Safety
/// The processor has AVX2, FMA and F16C; `row` holds a block for each 32 values of `out`.
#[target_feature(enable = "avx2,fma,f16c")]
pub(super) unsafe fn add_scaled_q8_0(row: &[u8], weight: f32, out: &mut [f32]) {
    let blocks = row.as_chunks::<Q8_BYTES>().0;
    for (block, sums) in blocks.iter().zip(out.as_chunks_mut::<BLOCK>().0) {
        let scale = half::f16::from_le_bytes([block[0], block[1]]).to_f32();
        let factor = _mm256_set1_ps(weight * scale);
        for at in (0..BLOCK).step_by(8) {
            // SAFETY: a block has 32 quants after its two bytes of scale, and 32 sums stand by.
            unsafe {
                let quants = _mm_loadl_epi64(block.as_ptr().add(2 + at).cast());
                let values = _mm256_cvtepi32_ps(_mm256_cvtepi8_epi32(quants));
                let sums = sums.as_mut_ptr().add(at);
                _mm256_storeu_ps(sums, _mm256_fmadd_ps(factor, values, _mm256_loadu_ps(sums)));
            }
        }
    }
}
