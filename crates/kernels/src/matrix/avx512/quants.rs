//! Unpacks the quants of sixteen groups into registers of two groups each. `Blocks::quants` of each type is the
//! specification.

use std::arch::x86_64::*;

use deft_formats::quant::{
    Blocks, CODEBOOK, IQ4_NL, IQ4_XS, Q2_K, Q3_K, Q4_0, Q4_1, Q4_K, Q5_0, Q5_1, Q5_K, Q6_K, Q8_0,
};

use super::REGISTERS;
use super::interleaved;
use super::scales::Scales;

/// A type whose quants can be unpacked into 512-bit registers.
pub(in crate::matrix) trait Wide: Blocks {
    /// Unpacks register number `STEP` of a strip: groups `2 STEP` and `2 STEP + 1`.
    ///
    /// # Safety
    /// Blocks of 512 values can be read, and the processor has the instructions.
    unsafe fn register<const STEP: usize>(blocks: *const u8) -> __m512i;

    /// Unpacks the quants of a strip in the order in which tiles read them.
    ///
    /// # Safety
    /// Blocks of 512 values can be read, and the processor has the instructions.
    unsafe fn interleaved(blocks: *const u8) -> [__m512i; REGISTERS];

    /// Unpacks the scales and minima of a strip.
    ///
    /// # Safety
    /// Blocks of 512 values can be read, and the processor has the instructions.
    unsafe fn scales_of(blocks: *const u8) -> Scales;
}

/// Unpacks the first `registers` registers of a strip; the others are zero.
///
/// # Safety
/// Blocks with 64 values for each of these registers can be read.
#[target_feature(enable = "avx512f,avx512bw,avx512dq,avx512vl,avx2")]
#[inline]
pub(super) unsafe fn load<B: Wide>(blocks: *const u8, registers: usize) -> [__m512i; REGISTERS] {
    let mut quants = [_mm512_setzero_si512(); REGISTERS];
    macro_rules! registers {
        ($($step:literal)*) => {$(
            if $step < registers {
                // SAFETY: as the caller promises.
                quants[$step] = unsafe { B::register::<$step>(blocks) };
            }
        )*};
    }
    registers!(0 1 2 3 4 5 6 7);
    quants
}

/// Loads 32 bytes and repeats them.
#[target_feature(enable = "avx512f,avx512vl")]
#[inline]
unsafe fn twice(bytes: *const u8) -> __m512i {
    // SAFETY: the caller promises 32 bytes.
    unsafe { _mm512_broadcast_i64x4(_mm256_loadu_si256(bytes.cast())) }
}

/// Loads 16 bytes and repeats them, then 16 bytes from `second` likewise.
#[target_feature(enable = "avx512f,avx512vl,avx2")]
#[inline]
unsafe fn pairs(first: *const u8, second: *const u8) -> __m512i {
    // SAFETY: the caller promises 16 bytes at both.
    unsafe {
        let low = _mm256_broadcastsi128_si256(_mm_loadu_si128(first.cast()));
        let high = _mm256_broadcastsi128_si256(_mm_loadu_si128(second.cast()));
        _mm512_inserti64x4::<1>(_mm512_castsi256_si512(low), high)
    }
}

/// Shifts each quarter of a register to the right by its number of bits.
#[target_feature(enable = "avx512f")]
#[inline]
fn shifted(bytes: __m512i, by: [i64; 4]) -> __m512i {
    let [a, b, c, d] = by;
    _mm512_srlv_epi64(bytes, _mm512_setr_epi64(a, a, b, b, c, c, d, d))
}

/// The low four bits of every byte.
#[target_feature(enable = "avx512f,avx512bw")]
#[inline]
pub(super) fn four_bits(bytes: __m512i) -> __m512i {
    _mm512_and_si512(bytes, _mm512_set1_epi8(0x0F))
}

/// The nibbles of two groups of 16 bytes each, low nibbles first.
#[target_feature(enable = "avx512f,avx512bw,avx512vl,avx2")]
#[inline]
unsafe fn nibbles(first: *const u8, second: *const u8) -> __m512i {
    // SAFETY: the caller promises 16 bytes at both.
    four_bits(shifted(unsafe { pairs(first, second) }, [0, 4, 0, 4]))
}

/// The nibbles of two groups that share 32 bytes: the low nibbles are the first group.
#[target_feature(enable = "avx512f,avx512bw,avx512vl")]
#[inline]
unsafe fn nibble_pair(bytes: *const u8) -> __m512i {
    // SAFETY: the caller promises 32 bytes.
    four_bits(shifted(unsafe { twice(bytes) }, [0, 0, 4, 4]))
}

/// Adds sixteen to each quant whose bit is set.
#[target_feature(enable = "avx512f,avx512bw")]
#[inline]
fn with_fifth(quants: __m512i, bits: u64) -> __m512i {
    _mm512_mask_add_epi8(quants, bits, quants, _mm512_set1_epi8(16))
}

/// Replaces nibbles by their values in the codebook.
#[target_feature(enable = "avx512f,avx512bw")]
#[inline]
pub(super) fn chosen(nibbles: __m512i) -> __m512i {
    // SAFETY: the codebook has sixteen entries.
    let steps = unsafe { _mm_loadu_si128(CODEBOOK.as_ptr().cast()) };
    _mm512_shuffle_epi8(_mm512_broadcast_i32x4(steps), nibbles)
}

/// Mask of the bytes that have a bit set: bit `lower` of the first 32 bytes, and the next bit of the others.
#[target_feature(enable = "avx512f,avx512bw")]
#[inline]
fn bits(bytes: __m512i, lower: usize) -> u64 {
    #[expect(clippy::cast_possible_wrap, reason = "a pattern of bits")]
    let bit = |at: usize| _mm256_set1_epi8((1u8 << at) as i8);
    let both = _mm512_inserti64x4::<1>(_mm512_castsi256_si512(bit(lower)), bit(lower + 1));
    _mm512_test_epi8_mask(bytes, both)
}

/// For each type, how a register is unpacked from blocks that begin at `at`: two small blocks, or quarter `step` of a large
/// one.
macro_rules! wide {
    ($($kind:ty, $scales:ident, $interleaved:expr, |$at:ident, $step:ident| $load:expr;)*) => {$(
        impl Wide for $kind {
            #[inline]
            #[target_feature(enable = "avx512f,avx512bw,avx512dq,avx512vl,avx2")]
            unsafe fn interleaved(blocks: *const u8) -> [__m512i; REGISTERS] {
                // SAFETY: the caller promises the blocks of 512 values.
                unsafe { $interleaved(blocks) }
            }

            #[inline]
            #[target_feature(enable = "avx512f,avx512bw,avx512dq,avx512vl,avx2,f16c")]
            unsafe fn scales_of(blocks: *const u8) -> Scales {
                // SAFETY: the caller promises the blocks of 512 values.
                unsafe { Scales::$scales::<$kind>(blocks) }
            }

            #[inline]
            #[target_feature(enable = "avx512f,avx512bw,avx512dq,avx512vl,avx2")]
            unsafe fn register<const STEP: usize>(blocks: *const u8) -> __m512i {
                let ($step, block) = match <$kind>::VALUES {
                    32 => (0, STEP * 2),
                    _ => (STEP % 4, STEP / 4),
                };
                let _: usize = $step;
                // SAFETY: the caller promises the blocks of 512 values; a register takes 64 of them.
                unsafe {
                    let $at = blocks.add(block * <$kind>::BYTES);
                    $load
                }
            }
        }
    )*};
}

/// Distance in bytes to the next block.
const fn next<B: Blocks>() -> usize {
    B::BYTES
}

/// The fifth bits of two blocks, four bytes each.
#[target_feature(enable = "avx512f")]
#[inline]
unsafe fn fifth_bits(first: *const u8, second: *const u8) -> u64 {
    // SAFETY: the caller promises four bytes at both.
    unsafe {
        let (low, high) =
            (first.cast::<u32>().read_unaligned(), second.cast::<u32>().read_unaligned());
        u64::from(low) | u64::from(high) << 32
    }
}

wide! {
    Q8_0, of_small, interleaved::by_groups::<Q8_0>, |at, step| {
        let low = _mm512_castsi256_si512(_mm256_loadu_si256(at.add(2).cast()));
        let high = _mm256_loadu_si256(at.add(2 + next::<Q8_0>()).cast());
        _mm512_xor_si512(_mm512_inserti64x4::<1>(low, high), _mm512_set1_epi8(-128))
    };
    Q4_0, of_small, interleaved::nibbles::<Q4_0, 2>, |at, step| nibbles(at.add(2), at.add(2 + next::<Q4_0>()));
    Q4_1, of_small, interleaved::nibbles::<Q4_1, 4>, |at, step| nibbles(at.add(4), at.add(4 + next::<Q4_1>()));
    Q5_0, of_small, interleaved::nibbles_and_fifths::<Q5_0, 6>, |at, step| {
        let other = at.add(next::<Q5_0>());
        with_fifth(nibbles(at.add(6), other.add(6)), fifth_bits(at.add(2), other.add(2)))
    };
    Q5_1, of_small, interleaved::nibbles_and_fifths::<Q5_1, 8>, |at, step| {
        let other = at.add(next::<Q5_1>());
        with_fifth(nibbles(at.add(8), other.add(8)), fifth_bits(at.add(4), other.add(4)))
    };
    IQ4_NL, of_small, interleaved::steps::<IQ4_NL, 2>, |at, step| chosen(nibbles(at.add(2), at.add(2 + next::<IQ4_NL>())));
    IQ4_XS, of_two_and_four_bits, interleaved::steps_of_pairs::<IQ4_XS, 8>, |at, step| chosen(nibbles(at.add(8 + step * 32), at.add(24 + step * 32)));
    Q4_K, of_six_bits, interleaved::nibble_pairs::<Q4_K, 16>, |at, step| nibble_pair(at.add(16 + step * 32));
    Q5_K, of_six_bits, interleaved::nibble_pairs_and_fifths::<Q5_K, 48>, |at, step| {
        let quants = nibble_pair(at.add(48 + step * 32));
        with_fifth(quants, bits(twice(at.add(16)), step * 2))
    };
    Q6_K, of_halves, interleaved::by_groups::<Q6_K>, |at, step| {
        let (part, upper) = (step / 2, step % 2);
        let low = _mm512_loadu_si512(at.add(part * 64).cast());
        let low = four_bits(if upper == 1 { shifted(low, [4; 4]) } else { low });
        let high = twice(at.add(128 + part * 32));
        let high = match upper {
            0 => _mm512_sllv_epi64(high, _mm512_setr_epi64(4, 4, 4, 4, 2, 2, 2, 2)),
            _ => shifted(high, [0, 0, 2, 2]),
        };
        _mm512_or_si512(low, _mm512_and_si512(high, _mm512_set1_epi8(0x30)))
    };
    Q2_K, of_four_bits, interleaved::two_bits::<Q2_K, 16>, |at, step| {
        let (part, upper) = (step / 2, (step % 2 * 4) as i64);
        let bytes = shifted(twice(at.add(16 + part * 32)), [upper, upper, upper + 2, upper + 2]);
        _mm512_and_si512(bytes, _mm512_set1_epi8(3))
    };
    Q3_K, of_four_and_two_bits, interleaved::two_bits_and_thirds::<Q3_K, 32>, |at, step| {
        let (part, upper) = (step / 2, (step % 2 * 4) as i64);
        let bytes = shifted(twice(at.add(32 + part * 32)), [upper, upper, upper + 2, upper + 2]);
        let quants = _mm512_and_si512(bytes, _mm512_set1_epi8(3));
        let third = bits(twice(at), step * 2);
        _mm512_mask_add_epi8(quants, third, quants, _mm512_set1_epi8(4))
    };
}
