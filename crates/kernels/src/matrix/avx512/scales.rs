//! Unpacks the scales and minima of sixteen groups into registers. `Blocks::scales` of each type is the specification.

use std::arch::x86_64::*;

use deft_formats::quant::{Blocks, STRIP_GROUPS};

/// Scales and minima of the groups of a strip, or of the first and second halves of the groups.
#[derive(Debug, Clone, Copy)]
pub(in crate::matrix) struct Scales {
    pub(super) scales: [__m512; 2],
    pub(super) mins: [__m512; 2],
}

impl Scales {
    /// Keeps those of the first groups and sets the others, which may be anything, to zero.
    #[target_feature(enable = "avx512f")]
    #[inline]
    pub(super) fn of_first(self, groups: usize) -> Self {
        let there = crate::tiles::first_of(groups);
        Self {
            scales: self.scales.map(|scales| _mm512_maskz_mov_ps(there, scales)),
            mins: self.mins.map(|mins| _mm512_maskz_mov_ps(there, mins)),
        }
    }

    /// Those of sixteen small blocks. A block begins with the scale, followed by the negated minimum if there are minima.
    ///
    /// # Safety
    /// Sixteen blocks can be read.
    #[target_feature(enable = "avx512f,avx512vl,avx512bw,f16c")]
    #[inline]
    pub(super) unsafe fn of_small<B: Blocks>(blocks: *const u8) -> Self {
        let none = _mm_setzero_si128();
        // SAFETY: as the caller promises.
        let scale = unsafe { halves_at::<B>(blocks) };
        let min = if B::MINIMA {
            // SAFETY: as the caller promises; blocks have more than four bytes.
            let minus = unsafe { halves_at::<B>(blocks.add(2)) };
            _mm256_xor_si256(minus, _mm256_set1_epi16(i16::MIN))
        } else {
            _mm256_setzero_si256()
        };
        let (scale, min) = scale_and_min::<B>(scale, none, min, none);
        Self { scales: [scale; 2], mins: [min; 2] }
    }

    /// Those of two blocks that begin with a scale, a factor of the minima, and integers of six bits.
    ///
    /// # Safety
    /// Two blocks can be read.
    #[target_feature(enable = "avx512f,avx512vl,avx512bw,f16c")]
    #[inline]
    pub(super) unsafe fn of_six_bits<B: Blocks>(blocks: *const u8) -> Self {
        // SAFETY: as the caller promises.
        unsafe {
            let (first, second) = (blocks, blocks.add(B::BYTES));
            let (scales, mins) = (six_bits(first.add(4)), six_bits(second.add(4)));
            let scale = eight_each(first, second);
            let min = eight_each(first.add(2), second.add(2));
            let (low, high) = (_mm_unpacklo_epi64(scales, mins), _mm_unpackhi_epi64(scales, mins));
            let (scale, min) = scale_and_min::<B>(scale, low, min, high);
            Self { scales: [scale; 2], mins: [min; 2] }
        }
    }

    /// Those of two blocks of `Q6_K`: a byte for each half of eight groups, then the scale.
    ///
    /// # Safety
    /// Two blocks can be read.
    #[target_feature(enable = "avx512f,avx512vl,avx512bw,f16c")]
    #[inline]
    pub(super) unsafe fn of_halves<B: Blocks>(blocks: *const u8) -> Self {
        // SAFETY: as the caller promises.
        unsafe {
            let (first, second) = (blocks.add(192), blocks.add(B::BYTES + 192));
            let bytes = |at: *const u8| _mm_loadu_si128(at.cast());
            let scale = eight_each(first.add(16), second.add(16));
            let (none, zero) = (_mm_setzero_si128(), _mm256_setzero_si256());
            Self::by_halves(bytes(first), bytes(second), |half| {
                scale_and_min::<B>(scale, half, zero, none)
            })
        }
    }

    /// Those of two blocks of `Q2_K`: for each half of eight groups a scale and a minimum of four bits; the common scale
    /// and the factor of the minima are at the end of the block.
    ///
    /// # Safety
    /// Two blocks can be read.
    #[target_feature(enable = "avx512f,avx512vl,avx512bw,f16c")]
    #[inline]
    pub(super) unsafe fn of_four_bits<B: Blocks>(blocks: *const u8) -> Self {
        // SAFETY: as the caller promises.
        unsafe {
            let second = blocks.add(B::BYTES);
            let bytes = |at: *const u8| _mm_loadu_si128(at.cast());
            let scale = eight_each(blocks.add(80), second.add(80));
            let min = eight_each(blocks.add(82), second.add(82));
            let four = |bytes: __m128i| _mm_and_si128(bytes, _mm_set1_epi8(15));
            Self::by_halves(bytes(blocks), bytes(second), |half| {
                scale_and_min::<B>(scale, four(half), min, four(_mm_srli_epi16::<4>(half)))
            })
        }
    }

    /// Those of two blocks of `Q3_K`: six bits for each half of eight groups, then the scale.
    ///
    /// # Safety
    /// Two blocks can be read.
    #[target_feature(enable = "avx512f,avx512vl,avx512bw,f16c")]
    #[inline]
    pub(super) unsafe fn of_four_and_two_bits<B: Blocks>(blocks: *const u8) -> Self {
        // SAFETY: as the caller promises.
        unsafe {
            let (first, second) = (blocks.add(96), blocks.add(B::BYTES + 96));
            let scale = eight_each(first.add(12), second.add(12));
            let (none, zero) = (_mm_setzero_si128(), _mm256_setzero_si256());
            Self::by_halves(four_and_two_bits(first), four_and_two_bits(second), |half| {
                scale_and_min::<B>(scale, less_32(half), zero, none)
            })
        }
    }

    /// Those of two blocks of `IQ4_XS`: the scale, then two and four bits for each of eight groups.
    ///
    /// # Safety
    /// Two blocks can be read.
    #[target_feature(enable = "avx512f,avx512vl,avx512bw,f16c")]
    #[inline]
    pub(super) unsafe fn of_two_and_four_bits<B: Blocks>(blocks: *const u8) -> Self {
        // SAFETY: as the caller promises.
        unsafe {
            let second = blocks.add(B::BYTES);
            let scale = eight_each(blocks, second);
            let eight = |at| _mm_cvtsi64_si128(two_and_four_bits(at).cast_signed());
            let both = _mm_unpacklo_epi64(eight(blocks.add(2)), eight(second.add(2)));
            let (none, zero) = (_mm_setzero_si128(), _mm256_setzero_si256());
            let (scale, min) = scale_and_min::<B>(scale, less_32(both), zero, none);
            Self { scales: [scale; 2], mins: [min; 2] }
        }
    }

    /// Separates the bytes of the first halves from those of the second halves of sixteen groups, and converts both.
    #[target_feature(enable = "avx512f,avx512vl,avx512bw,f16c")]
    #[inline]
    fn by_halves(
        first: __m128i,
        second: __m128i,
        made_of: impl Fn(__m128i) -> (__m512, __m512),
    ) -> Self {
        let apart = _mm_setr_epi8(0, 2, 4, 6, 8, 10, 12, 14, 1, 3, 5, 7, 9, 11, 13, 15);
        let (a, b) = (_mm_shuffle_epi8(first, apart), _mm_shuffle_epi8(second, apart));
        let (low, high) = (made_of(_mm_unpacklo_epi64(a, b)), made_of(_mm_unpackhi_epi64(a, b)));
        Self { scales: [low.0, high.0], mins: [low.1, high.1] }
    }
}

/// Subtracts 32, the offset of the stored integers.
#[target_feature(enable = "avx512f,avx512vl")]
#[inline]
fn less_32(bytes: __m128i) -> __m128i {
    _mm_sub_epi8(bytes, _mm_set1_epi8(32))
}

/// Sixteen integers of six bits: eight bytes with the low four bits (low nibbles first), then four bytes with the upper
/// two bits of every fourth integer.
///
/// # Safety
/// Twelve bytes can be read.
#[target_feature(enable = "avx512f,avx512vl")]
#[inline]
unsafe fn four_and_two_bits(packed: *const u8) -> __m128i {
    // SAFETY: as the caller promises.
    let (four, two) = unsafe {
        (packed.cast::<u64>().read_unaligned(), packed.add(8).cast::<u32>().read_unaligned())
    };
    let four = |shift: u32| four >> shift & 0x0F0F_0F0F_0F0F_0F0F;
    let two = |shift: u32| u64::from(two >> shift & 0x0303_0303) << 4;
    let (first, second) = (four(0) | two(0) | two(2) << 32, four(4) | two(4) | two(6) << 32);
    _mm_set_epi64x(second.cast_signed(), first.cast_signed())
}

/// Eight integers of six bits: two bytes with the upper two bits of each, then four bytes with the low four bits.
///
/// # Safety
/// Six bytes can be read.
unsafe fn two_and_four_bits(packed: *const u8) -> u64 {
    // SAFETY: as the caller promises.
    let (two, four) = unsafe {
        (packed.cast::<u16>().read_unaligned(), packed.add(2).cast::<u32>().read_unaligned())
    };
    let (mut two, mut four) = (u64::from(two), u64::from(four));
    for (shift, mask) in
        [(16, 0xFFFF_0000_FFFF), (8, 0xFF_00FF_00FF_00FF), (4, 0x0F0F_0F0F_0F0F_0F0F)]
    {
        four = (four | four << shift) & mask;
    }
    for (shift, mask) in
        [(24, 0xFF_0000_00FF), (12, 0xF_000F_000F_000F), (6, 0x0303_0303_0303_0303)]
    {
        two = (two | two << shift) & mask;
    }
    four | two << 4
}

/// Converts common scales and minima from half precision, and multiplies them by the integers of the groups if the type has
/// them.
#[target_feature(enable = "avx512f,avx512vl,avx512bw,f16c")]
#[inline]
fn scale_and_min<B: Blocks>(
    scale: __m256i,
    scales: __m128i,
    min: __m256i,
    mins: __m128i,
) -> (__m512, __m512) {
    let mut scale = _mm512_cvtph_ps(scale);
    let mut min = if B::MINIMA { _mm512_cvtph_ps(min) } else { _mm512_setzero_ps() };
    if B::SUB_SCALES {
        let whole = _mm512_cvtepi32_ps(_mm512_cvtepi8_epi32(scales));
        scale = _mm512_mul_ps(scale, whole);
    }
    if B::SUB_SCALES && B::MINIMA {
        let whole = _mm512_cvtepi32_ps(_mm512_cvtepu8_epi32(mins));
        min = _mm512_mul_ps(min, whole);
    }
    (scale, min)
}

/// Repeats a half-precision number eight times, then another one.
#[target_feature(enable = "avx512f,avx512vl,avx512bw")]
#[inline]
unsafe fn eight_each(first: *const u8, second: *const u8) -> __m256i {
    // SAFETY: the caller promises two bytes at both.
    unsafe {
        let number = |at: *const u8| _mm_set1_epi16(at.cast::<i16>().read_unaligned());
        _mm256_inserti128_si256::<1>(_mm256_castsi128_si256(number(first)), number(second))
    }
}

/// Unpacks eight scales and eight minima of six bits each from twelve bytes.
#[target_feature(enable = "avx512f,avx512vl")]
#[inline]
unsafe fn six_bits(packed: *const u8) -> __m128i {
    // SAFETY: the caller promises twelve bytes.
    let word = |at: usize| unsafe { packed.cast::<u32>().add(at).read_unaligned() };
    let (low, rest) = (u64::from(word(0)) | u64::from(word(1)) << 32, word(2));
    // The first four scales and minima are whole in the low six bits of a byte; the upper two bits of the others are above them.
    let (six, two) = (low & 0x3F3F_3F3F_3F3F_3F3F, low >> 2 & 0x3030_3030_3030_3030);
    let four = u64::from(rest & 0x0F0F_0F0F) | u64::from(rest >> 4 & 0x0F0F_0F0F) << 32;
    let (six, more) = (six.cast_signed(), (four | two).cast_signed());
    let (six, more) = (_mm_cvtsi64_si128(six), _mm_cvtsi64_si128(more));
    // The first four scales, the other four, then the minima likewise.
    _mm_unpacklo_epi32(six, more)
}

/// The half-precision numbers at the beginning of sixteen small blocks.
///
/// Two blocks per load. The loads use different parts of the register, so that they can be merged.
///
/// # Safety
/// Two bytes can be read at the beginning of sixteen blocks.
#[target_feature(enable = "avx512f,avx512vl,avx512bw")]
#[inline]
unsafe fn halves_at<B: Blocks>(blocks: *const u8) -> __m256i {
    const {
        assert!(B::VALUES == 32 && B::BYTES.is_multiple_of(2) && B::BYTES / 2 >= STRIP_GROUPS / 2);
        assert!(B::BYTES + 2 <= 64);
    }
    let mut words = _mm512_setzero_si512();
    for at in 0..STRIP_GROUPS / 2 {
        let both = 1_u32 << at | 1 << (at + B::BYTES / 2);
        // SAFETY: the mask selects one word of each of two blocks, which are within the blocks.
        words = unsafe {
            let from = blocks.wrapping_add(2 * at * B::BYTES).wrapping_sub(2 * at);
            _mm512_mask_loadu_epi16(words, both, from.cast())
        };
    }
    // The words of even blocks are at the beginning, those of odd blocks the length of a block further.
    let order = const {
        let mut order = [0_u16; 32];
        let mut at = 0;
        while at < STRIP_GROUPS {
            order[at] = (at / 2 + at % 2 * (B::BYTES / 2)) as u16;
            at += 1;
        }
        order
    };
    // SAFETY: the array has 64 bytes.
    let order = unsafe { _mm512_loadu_si512(order.as_ptr().cast()) };
    _mm512_castsi512_si256(_mm512_permutexvar_epi16(order, words))
}
