//! Unpacks the quants of a group into a register. `Blocks::quants` of each type is the specification.

use std::arch::x86_64::*;

use deft_formats::quant::{
    Blocks, CODEBOOK, GROUP, IQ4_NL, IQ4_XS, Q2_K, Q3_K, Q4_0, Q4_1, Q4_K, Q5_0, Q5_1, Q5_K, Q6_K,
    Q8_0,
};

/// A type whose quants can be unpacked into 256-bit registers.
pub(in crate::matrix) trait Narrow: Blocks {
    /// Unpacks the quants of a group, given its index in a row of blocks.
    ///
    /// # Safety
    /// The group's block can be read, and the processor has the instructions.
    unsafe fn group(blocks: *const u8, group: usize) -> __m256i;
}

/// Shifts each 16-bit word to the right.
#[inline]
#[target_feature(enable = "avx2")]
fn shifted(bytes: __m256i, by: usize) -> __m256i {
    #[expect(clippy::cast_possible_truncation, clippy::cast_possible_wrap, reason = "below 8")]
    _mm256_srl_epi16(bytes, _mm_cvtsi32_si128(by as i32))
}

/// Keeps the low bits of every byte.
#[inline]
#[target_feature(enable = "avx2")]
fn lowest<const MASK: i8>(bytes: __m256i) -> __m256i {
    _mm256_and_si256(bytes, _mm256_set1_epi8(MASK))
}

/// The nibbles of 16 bytes, low nibbles first.
#[inline]
#[target_feature(enable = "avx2")]
unsafe fn nibbles(at: *const u8) -> __m256i {
    // SAFETY: the caller promises 16 bytes.
    let bytes = unsafe { _mm_loadu_si128(at.cast()) };
    let both =
        _mm256_inserti128_si256::<1>(_mm256_castsi128_si256(bytes), _mm_srli_epi16::<4>(bytes));
    lowest::<0x0F>(both)
}

/// Loads 32 bytes.
#[inline]
#[target_feature(enable = "avx2")]
unsafe fn whole(at: *const u8) -> __m256i {
    // SAFETY: the caller promises 32 bytes.
    unsafe { _mm256_loadu_si256(at.cast()) }
}

/// The nibbles of one group of a pair that shares 32 bytes: the low nibbles are the first group.
#[inline]
#[target_feature(enable = "avx2")]
unsafe fn nibble_of_pair(pairs: *const u8, group: usize) -> __m256i {
    // SAFETY: the caller promises 32 bytes for each pair.
    lowest::<0x0F>(shifted(unsafe { whole(pairs.add(group / 2 * 32)) }, group % 2 * 4))
}

/// The two bits of one group of four that share 32 bytes.
#[inline]
#[target_feature(enable = "avx2")]
unsafe fn two_bits(parts: *const u8, group: usize) -> __m256i {
    // SAFETY: the caller promises 32 bytes for each four groups.
    lowest::<3>(shifted(unsafe { whole(parts.add(group / 4 * 32)) }, group % 4 * 2))
}

/// Adds a value to each quant whose byte has the bit set.
#[inline]
#[target_feature(enable = "avx2")]
fn more_where(quants: __m256i, more: i8, bytes: __m256i, bit: __m256i) -> __m256i {
    let has = _mm256_cmpeq_epi8(_mm256_and_si256(bytes, bit), bit);
    _mm256_or_si256(quants, _mm256_and_si256(has, _mm256_set1_epi8(more)))
}

/// The bit of a group, in every byte.
#[inline]
#[target_feature(enable = "avx2")]
fn bit_of(group: usize) -> __m256i {
    #[expect(clippy::cast_possible_wrap, reason = "a pattern of bits")]
    _mm256_set1_epi8((1_u8 << group) as i8)
}

/// Adds sixteen to each quant whose bit, one of 32, is set.
#[inline]
#[target_feature(enable = "avx2")]
unsafe fn with_fifth(quants: __m256i, bits: *const u8) -> __m256i {
    // SAFETY: the caller promises four bytes.
    let bits = _mm256_set1_epi32(unsafe { bits.cast::<i32>().read_unaligned() });
    // Each byte repeated eight times.
    let order =
        _mm256_setr_epi64x(0, 0x0101_0101_0101_0101, 0x0202_0202_0202_0202, 0x0303_0303_0303_0303);
    let own = _mm256_set1_epi64x(0x8040_2010_0804_0201_u64.cast_signed());
    more_where(quants, 16, _mm256_shuffle_epi8(bits, order), own)
}

/// Replaces nibbles by their values in the codebook.
#[inline]
#[target_feature(enable = "avx2")]
fn chosen(nibbles: __m256i) -> __m256i {
    // SAFETY: the codebook has sixteen entries.
    let steps = unsafe { _mm_loadu_si128(CODEBOOK.as_ptr().cast()) };
    _mm256_shuffle_epi8(_mm256_broadcastsi128_si256(steps), nibbles)
}

/// For each type, how group `group` of a block that begins at `at` is unpacked.
macro_rules! narrow {
    ($($kind:ty, |$at:ident, $group:ident| $load:expr;)*) => {$(
        impl Narrow for $kind {
            #[inline]
            #[target_feature(enable = "avx2")]
            unsafe fn group(blocks: *const u8, group: usize) -> __m256i {
                let groups = <$kind>::VALUES / GROUP;
                let $group = group % groups;
                let _: usize = $group;
                // SAFETY: the caller promises the block, and only bytes of the block are read.
                unsafe {
                    let $at = blocks.add(group / groups * <$kind>::BYTES);
                    $load
                }
            }
        }
    )*};
}

narrow! {
    Q8_0, |at, group| _mm256_xor_si256(whole(at.add(2)), _mm256_set1_epi8(-128));
    Q4_0, |at, group| nibbles(at.add(2));
    Q4_1, |at, group| nibbles(at.add(4));
    Q5_0, |at, group| with_fifth(nibbles(at.add(6)), at.add(2));
    Q5_1, |at, group| with_fifth(nibbles(at.add(8)), at.add(4));
    IQ4_NL, |at, group| chosen(nibbles(at.add(2)));
    IQ4_XS, |at, group| chosen(nibbles(at.add(8 + group * 16)));
    Q4_K, |at, group| nibble_of_pair(at.add(16), group);
    Q5_K, |at, group| {
        more_where(nibble_of_pair(at.add(48), group), 16, whole(at.add(16)), bit_of(group))
    };
    Q6_K, |at, group| {
        let (part, place) = (group / 4, group % 4);
        let low = whole(at.add(part * 64 + place % 2 * 32));
        let low = lowest::<0x0F>(shifted(low, place / 2 * 4));
        _mm256_or_si256(low, _mm256_slli_epi16::<4>(two_bits(at.add(128), group)))
    };
    Q2_K, |at, group| two_bits(at.add(16), group);
    Q3_K, |at, group| more_where(two_bits(at.add(32), group), 4, whole(at), bit_of(group));
}
