//! The instructions of AVX-VNNI and AVX-512 VNNI.

use std::arch::asm;
use std::arch::x86_64::__m256i;
#[cfg(test)]
use std::arch::x86_64::*;

/// Adds the products of four neighbours, unsigned weights times signed values, to each of sixteen sums.
#[cfg(not(test))]
pub(crate) use std::arch::x86_64::_mm512_dpbusd_epi32 as wide_fours;

/// The same, also for processors without the instruction.
#[cfg(test)]
#[target_feature(enable = "avx512f,avx512bw")]
pub(crate) fn wide_fours(sums: __m512i, weights: __m512i, values: __m512i) -> __m512i {
    if is_x86_feature_detected!("avx512vnni") {
        // SAFETY: the instruction was detected on this processor.
        return unsafe { instructed(sums, weights, values) };
    }
    wide_twin(sums, weights, values)
}

#[cfg(test)]
#[target_feature(enable = "avx512f,avx512vnni")]
fn instructed(sums: __m512i, weights: __m512i, values: __m512i) -> __m512i {
    _mm512_dpbusd_epi32(sums, weights, values)
}

/// Computes what the instruction of sixteen sums computes: even and odd neighbours as words, two products at a time.
#[cfg(test)]
#[target_feature(enable = "avx512f,avx512bw")]
fn wide_twin(sums: __m512i, weights: __m512i, values: __m512i) -> __m512i {
    let even_weights = _mm512_and_si512(weights, _mm512_set1_epi16(0xFF));
    let even_values = _mm512_srai_epi16::<8>(_mm512_slli_epi16::<8>(values));
    let even = _mm512_madd_epi16(even_weights, even_values);
    let (odd_weights, odd_values) =
        (_mm512_srli_epi16::<8>(weights), _mm512_srai_epi16::<8>(values));
    let odd = _mm512_madd_epi16(odd_weights, odd_values);
    _mm512_add_epi32(sums, _mm512_add_epi32(even, odd))
}

/// Adds the products of four neighbours, unsigned weights times signed values, to each of eight sums.
///
/// Written as assembly, so that callers need not be compiled for this instruction and it can be inlined into them.
///
/// # Safety
/// The processor has AVX-VNNI. (In this crate's own tests it may lack it.)
#[target_feature(enable = "avx2")]
#[inline]
pub(crate) unsafe fn fours(mut sums: __m256i, weights: __m256i, values: __m256i) -> __m256i {
    #[cfg(test)]
    if !is_x86_feature_detected!("avxvnni") {
        return twin(sums, weights, values);
    }
    // SAFETY: the caller promises the instruction, which uses these registers only.
    unsafe {
        asm!(
            "{{vex}} vpdpbusd {sums}, {weights}, {values}",
            sums = inout(ymm_reg) sums,
            weights = in(ymm_reg) weights,
            values = in(ymm_reg) values,
            options(pure, nomem, nostack, preserves_flags)
        );
    }
    sums
}

/// Computes what the instruction computes; tests use it on processors without the instruction.
#[cfg(test)]
fn twin(sums: __m256i, weights: __m256i, values: __m256i) -> __m256i {
    let mut sums: [i32; 8] = bytemuck::cast(sums);
    let (weights, values): ([[u8; 4]; 8], [[i8; 4]; 8]) =
        (bytemuck::cast(weights), bytemuck::cast(values));
    for ((sum, weights), values) in sums.iter_mut().zip(weights).zip(values) {
        for (weight, value) in weights.into_iter().zip(values) {
            *sum = sum.wrapping_add(i32::from(weight) * i32::from(value));
        }
    }
    bytemuck::cast(sums)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn the_instruction_computes_what_its_twin_says(
            sums in any::<[i32; 8]>(),
            weights in any::<[u8; 32]>(),
            values in any::<[i8; 32]>(),
        ) {
            if is_x86_feature_detected!("avxvnni") {
                let [sums, weights, values]: [__m256i; 3] =
                    [bytemuck::cast(sums), bytemuck::cast(weights), bytemuck::cast(values)];
                // SAFETY: it was found on this processor.
                let found: [i32; 8] = bytemuck::cast(unsafe { fours(sums, weights, values) });
                prop_assert_eq!(found, bytemuck::cast::<__m256i, [i32; 8]>(twin(sums, weights, values)));
            }
        }
    }

    proptest! {
        #[test]
        fn sixteen_sums_are_what_the_twin_of_eight_says(
            sums in any::<[i32; 16]>(),
            weights in any::<[[u8; 32]; 2]>(),
            values in any::<[[i8; 32]; 2]>(),
        ) {
            if is_x86_feature_detected!("avx512bw") {
                let halves: [[i32; 8]; 2] = bytemuck::cast(sums);
                let expected: [__m256i; 2] = std::array::from_fn(|half| {
                    let (weights, values) = (weights[half], values[half]);
                    twin(bytemuck::cast(halves[half]), bytemuck::cast(weights), bytemuck::cast(values))
                });
                let (weights, values) = (bytemuck::cast(weights), bytemuck::cast(values));
                let sums = bytemuck::cast(sums);
                // SAFETY: the instructions were found on this processor.
                let found = unsafe { [wide_twin(sums, weights, values), wide_fours(sums, weights, values)] };
                for found in found {
                    let (found, expected): ([i32; 16], [i32; 16]) = (bytemuck::cast(found), bytemuck::cast(expected));
                    prop_assert_eq!(found, expected);
                }
            }
        }
    }

    #[test]
    fn the_twin_takes_weights_as_unsigned_and_values_as_signed() {
        let [weights, values]: [__m256i; 2] =
            [bytemuck::cast([255_u8; 32]), bytemuck::cast([-128_i8; 32])];
        let sums: [i32; 8] = bytemuck::cast(twin(bytemuck::cast([7_i32; 8]), weights, values));
        assert_eq!(sums, [7 - 4 * 255 * 128; 8]);
    }
}
