//! Rounding activations to eight bits with AVX-512, sixteen blocks at once; bit for bit equal to `round_strip_plain`.

use std::arch::x86_64::*;

use deft_formats::quant::{GROUP, STRIP};

use super::{REGISTERS, half_sums, interleaved};
use crate::dots::wide_fours;
use crate::matrix::activations::RoundedStrip;
use crate::matrix::form::Form;
use crate::matrix::lines::TokenLines;
use crate::sixteen::Sixteen;

/// A rounded strip in registers: quants of two blocks in each, and scales and sums of all sixteen blocks.
struct Rounded {
    quants: [__m512i; REGISTERS],
    scales: __m512,
    sum_biases: [__m512i; 2],
    min_factors: [__m512; 2],
}

/// Rounds up to 512 values of a token.
#[target_feature(enable = "avx512f,avx512bw,avx512dq,avx512vl,avx2,fma,f16c")]
#[cfg_attr(not(test), target_feature(enable = "avx512vnni"))]
pub(in crate::matrix) fn round_strip(values: &[f32], form: Form, strip: &mut RoundedStrip) {
    let rounded = rounded(values, form);
    // SAFETY: quants have 64 bytes for each step, the other arrays sixteen entries, all aligned to lines.
    unsafe {
        for (step, quants) in rounded.quants.into_iter().enumerate() {
            _mm512_store_si512(strip.quants.as_mut_ptr().add(step * 64).cast(), quants);
        }
        _mm512_store_ps(strip.scales.as_mut_ptr(), rounded.scales);
        for half in 0..2 {
            _mm512_store_si512(
                strip.sum_biases[half].as_mut_ptr().cast(),
                rounded.sum_biases[half],
            );
            _mm512_store_ps(strip.min_factors[half].as_mut_ptr(), rounded.min_factors[half]);
        }
    }
}

/// The same, into a token's lines of a tile ([`TokenLines`]).
#[target_feature(enable = "avx512f,avx512bw,avx512dq,avx512vl,avx2,fma,f16c")]
#[cfg_attr(not(test), target_feature(enable = "avx512vnni"))]
pub(in crate::matrix) fn round_into(
    values: &[f32],
    form: Form,
    tile: &mut [Sixteen],
    token: usize,
) {
    let rounded = rounded(values, form);
    let lines = TokenLines(form);
    let mut put = |line: usize, words: __m512i| {
        // SAFETY: a line has 64 bytes and begins where one of the caches does.
        unsafe { _mm512_store_si512(tile[line].0.as_mut_ptr().cast(), words) };
    };
    for (step, words) in interleaved(&rounded.quants).into_iter().enumerate() {
        put(lines.quants(step, token), words);
    }
    put(lines.scales(token), _mm512_castps_si512(rounded.scales));
    for half in 0..form.sum_biases() {
        put(lines.sum_biases(half, token), rounded.sum_biases[half]);
    }
    for half in 0..form.mins() {
        put(lines.min_factors(half, token), _mm512_castps_si512(rounded.min_factors[half]));
    }
}

#[target_feature(enable = "avx512f,avx512bw,avx512dq,avx512vl,avx2,fma,f16c")]
#[cfg_attr(not(test), target_feature(enable = "avx512vnni"))]
#[inline]
fn rounded(values: &[f32], form: Form) -> Rounded {
    if values.len() >= STRIP {
        rounded_strip::<true>(values, form)
    } else {
        rounded_strip::<false>(values, form)
    }
}

/// Loads a strip; missing values of a shorter strip are zero.
#[target_feature(enable = "avx512f,avx512bw,avx512dq,avx512vl,avx2,fma,f16c")]
#[cfg_attr(not(test), target_feature(enable = "avx512vnni"))]
#[inline]
fn rounded_strip<const WHOLE: bool>(values: &[f32], form: Form) -> Rounded {
    assert!(values.len().is_multiple_of(GROUP) && (!WHOLE || values.len() >= STRIP));
    let load = |block: usize, half: usize| {
        if WHOLE || block * GROUP < values.len() {
            // SAFETY: each block that is there has two times sixteen values.
            unsafe { _mm512_loadu_ps(values.as_ptr().add(block * GROUP + half * 16)) }
        } else {
            _mm512_setzero_ps()
        }
    };
    let magnitudes: [__m512i; 16] = std::array::from_fn(|block| {
        // Magnitudes have the same order as integers, and infinite ones and NaN are the largest.
        let [a, b] = [0, 1].map(|half| _mm512_castps_si512(_mm512_abs_ps(load(block, half))));
        _mm512_max_epi32(a, b)
    });
    let largest = largest_of_each(&magnitudes);
    let is_finite =
        _mm512_cmplt_epi32_mask(largest, _mm512_castps_si512(_mm512_set1_ps(f32::INFINITY)));
    let largest = _mm512_castsi512_ps(largest);
    let is_there = is_finite & _mm512_cmp_ps_mask::<_CMP_GT_OQ>(largest, _mm512_setzero_ps());
    let range = _mm512_set1_ps(127.0);
    let inverses = _mm512_maskz_div_ps(is_there, range, largest);
    let none = _mm512_set1_ps(f32::NAN);
    let scales = _mm512_mask_div_ps(none, is_finite, largest, range);

    let quants: [__m512i; REGISTERS] = std::array::from_fn(|step| {
        let quarter = |block: usize, half: usize| {
            #[expect(clippy::cast_possible_truncation, reason = "sixteen blocks")]
            let inverse = _mm512_permutexvar_ps(_mm512_set1_epi32(block as i32), inverses);
            let is_there = 0_u16.wrapping_sub(is_there >> block & 1);
            // Ties go to even.
            let whole = _mm512_cvtps_epi32(_mm512_mul_ps(load(block, half), inverse));
            _mm512_maskz_cvtepi32_epi8(is_there, whole)
        };
        let pair = |block: usize| {
            _mm256_inserti128_si256::<1>(
                _mm256_castsi128_si256(quarter(block, 0)),
                quarter(block, 1),
            )
        };
        let low = _mm512_castsi256_si512(pair(step * 2));
        _mm512_inserti64x4::<1>(low, pair(step * 2 + 1))
    });

    let fours =
        quants.map(|quants| wide_fours(_mm512_setzero_si512(), _mm512_set1_epi8(1), quants));
    let (first, second) = half_sums(&fours);
    let sums = match form.halves {
        true => [first, second],
        false => [_mm512_add_epi32(first, second), _mm512_setzero_si512()],
    };
    let minus_offset = _mm512_set1_epi32(-i32::from(form.offset));
    Rounded {
        quants,
        scales,
        sum_biases: sums.map(|sums| _mm512_mullo_epi32(minus_offset, sums)),
        min_factors: sums.map(|sums| _mm512_mul_ps(scales, _mm512_cvtepi32_ps(sums))),
    }
}

/// The largest whole number of each of sixteen registers, in their order.
#[target_feature(enable = "avx512f")]
#[inline]
fn largest_of_each(registers: &[__m512i; 16]) -> __m512i {
    // In each lane of 128 bits the largest of that lane, of four registers.
    let fours: [__m512i; 4] = std::array::from_fn(|four| {
        let pair = |at: usize| {
            let (a, b) = (registers[four * 4 + at], registers[four * 4 + at + 1]);
            _mm512_max_epi32(_mm512_unpacklo_epi32(a, b), _mm512_unpackhi_epi32(a, b))
        };
        let (a, b) = (pair(0), pair(2));
        _mm512_max_epi32(_mm512_unpacklo_epi64(a, b), _mm512_unpackhi_epi64(a, b))
    });
    let lanes = |a: __m512i, b: __m512i| {
        let even = _mm512_shuffle_i32x4::<0x88>(a, b);
        _mm512_max_epi32(even, _mm512_shuffle_i32x4::<0xDD>(a, b))
    };
    lanes(lanes(fours[0], fours[1]), lanes(fours[2], fours[3]))
}
