//! Products of bytes with 256-bit registers.

use std::arch::x86_64::__m256i;

use crate::dots::fours;

/// Products of unsigned stored weights and signed activations.
pub(in crate::matrix) trait Dots {
    /// Whether one instruction multiplies and sums four neighbours in 32 bits. Otherwise pairs are summed in 16 bits.
    const WHOLE: bool;

    /// Adds the products of four neighbours to each of eight sums, if that is one instruction.
    ///
    /// # Safety
    /// The processor has the instruction.
    unsafe fn add(sums: __m256i, weights: __m256i, values: __m256i) -> __m256i;
}

/// The instructions of AVX2.
pub(in crate::matrix) struct Pairs;

impl Dots for Pairs {
    const WHOLE: bool = false;

    #[inline(always)]
    unsafe fn add(_: __m256i, _: __m256i, _: __m256i) -> __m256i {
        unreachable!("pairs are summed where they are multiplied")
    }
}

/// The instructions of AVX-VNNI.
pub(in crate::matrix) struct Fours;

impl Dots for Fours {
    const WHOLE: bool = true;

    #[target_feature(enable = "avx2")]
    #[inline]
    unsafe fn add(sums: __m256i, weights: __m256i, values: __m256i) -> __m256i {
        // SAFETY: as the caller promises.
        unsafe { fours(sums, weights, values) }
    }
}
