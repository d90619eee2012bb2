//! How bytes are multiplied with 256 bits.

use std::arch::x86_64::__m256i;

use crate::dots::fours;

/// Products of unsigned weights, as they are stored, with signed activations.
pub(in crate::matrix) trait Dots {
    /// Whether four neighbours are multiplied and summed by one instruction, in 32 bits. If not, pairs are, in 16.
    const WHOLE: bool;

    /// Adds the products of four neighbours to each of eight sums, where that is one instruction.
    ///
    /// # Safety
    /// The processor has the instruction.
    unsafe fn add(sums: __m256i, weights: __m256i, values: __m256i) -> __m256i;
}

/// What AVX2 has.
pub(in crate::matrix) struct Pairs;

impl Dots for Pairs {
    const WHOLE: bool = false;

    #[inline(always)]
    unsafe fn add(_: __m256i, _: __m256i, _: __m256i) -> __m256i {
        unreachable!("pairs are summed where they are multiplied")
    }
}

/// What AVX-VNNI has.
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
