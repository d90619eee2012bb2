//! The instruction of AVX-VNNI.

use std::arch::asm;
use std::arch::x86_64::__m256i;

/// Adds the products of four neighbours, unsigned weights times signed values, to each of eight sums.
///
/// Written as it is so that callers need not be compiled for this instruction, and it stands among theirs.
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
    // SAFETY: the caller promises the instruction, which touches nothing but these registers.
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

/// What the instruction computes; tests use it on processors without it.
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

    #[test]
    fn the_twin_takes_weights_as_unsigned_and_values_as_signed() {
        let [weights, values]: [__m256i; 2] =
            [bytemuck::cast([255_u8; 32]), bytemuck::cast([-128_i8; 32])];
        let sums: [i32; 8] = bytemuck::cast(twin(bytemuck::cast([7_i32; 8]), weights, values));
        assert_eq!(sums, [7 - 4 * 255 * 128; 8]);
    }
}
