//! Quants of a strip in the order in which tiles read them: each register has four quants of each of the sixteen groups.

use std::arch::x86_64::*;

use deft_formats::quant::{Blocks, STRIP_GROUPS};

use super::REGISTERS;
use super::quants::{Wide, chosen, four_bits, load};

/// Loads a strip of a type without a more direct way: first as registers of two groups each.
///
/// # Safety
/// Blocks of 512 values can be read.
#[target_feature(enable = "avx512f,avx512bw,avx512dq,avx512vl,avx2")]
#[inline]
pub(super) unsafe fn by_groups<B: Wide>(blocks: *const u8) -> [__m512i; REGISTERS] {
    // SAFETY: as the caller promises.
    interleaved(&unsafe { load::<B>(blocks, REGISTERS) })
}

/// Reorders registers of two groups each.
#[target_feature(enable = "avx512f,avx512bw,avx512dq,avx512vl")]
#[inline]
pub(super) fn interleaved(quants: &[__m512i; REGISTERS]) -> [__m512i; REGISTERS] {
    let [a, b, c, d, e, f, g, h] = *quants;
    let (low, high) = (words(a, b, c, d), words(e, f, g, h));
    let (even, odd) = (super::places(false), super::places(true));
    std::array::from_fn(|step| {
        let places = if step < 4 { even } else { odd };
        _mm512_permutex2var_epi32(low[step % 4], places, high[step % 4])
    })
}

/// Transposes the 32-bit words of four registers within each 128-bit lane: result `k` has word `k` of all four.
#[target_feature(enable = "avx512f")]
#[inline]
pub(crate) fn words(a: __m512i, b: __m512i, c: __m512i, d: __m512i) -> [__m512i; 4] {
    let (low, high) = (_mm512_unpacklo_epi32(a, b), _mm512_unpackhi_epi32(a, b));
    let (more, most) = (_mm512_unpacklo_epi32(c, d), _mm512_unpackhi_epi32(c, d));
    [
        _mm512_unpacklo_epi64(low, more),
        _mm512_unpackhi_epi64(low, more),
        _mm512_unpacklo_epi64(high, most),
        _mm512_unpackhi_epi64(high, most),
    ]
}

/// Loads a strip of small blocks with 16 bytes of nibbles from byte `AT` on; the low nibbles are the first 16 values.
///
/// # Safety
/// Sixteen blocks can be read.
#[target_feature(enable = "avx512f,avx512bw")]
#[inline]
pub(super) unsafe fn nibbles<B: Blocks, const AT: usize>(
    blocks: *const u8,
) -> [__m512i; REGISTERS] {
    // Every fourth block, so that the transposed words are in the order of the groups.
    let four = |first: usize| {
        // SAFETY: blocks have 16 bytes there.
        let block = |at: usize| unsafe {
            _mm_loadu_si128(blocks.add((first + at * 4) * B::BYTES + AT).cast())
        };
        let all = _mm512_castsi128_si512(block(0));
        let all = _mm512_inserti32x4::<1>(all, block(1));
        let all = _mm512_inserti32x4::<2>(all, block(2));
        _mm512_inserti32x4::<3>(all, block(3))
    };
    let bytes = words(four(0), four(1), four(2), four(3));
    std::array::from_fn(|step| {
        let bytes = bytes[step % 4];
        four_bits(if step < 4 { bytes } else { _mm512_srli_epi16::<4>(bytes) })
    })
}

/// The same, with nibbles that are indices into the codebook.
///
/// # Safety
/// As [`nibbles`].
#[target_feature(enable = "avx512f,avx512bw")]
#[inline]
pub(super) unsafe fn steps<B: Blocks, const AT: usize>(blocks: *const u8) -> [__m512i; REGISTERS] {
    // SAFETY: as the caller promises.
    unsafe { nibbles::<B, AT>(blocks) }.map(|nibbles| chosen(nibbles))
}

/// The same, with the fifth bits in the four bytes before the nibbles.
///
/// # Safety
/// As [`nibbles`].
#[target_feature(enable = "avx512f,avx512bw")]
#[inline]
pub(super) unsafe fn nibbles_and_fifths<B: Blocks, const AT: usize>(
    blocks: *const u8,
) -> [__m512i; REGISTERS] {
    // SAFETY: as the caller promises.
    let (mut quants, bits) =
        unsafe { (nibbles::<B, AT>(blocks), words_at::<B>(blocks.add(AT - 4))) };
    let lower = _mm512_set1_epi32(0x0804_0201);
    let upper = _mm512_slli_epi32::<4>(lower);
    // One byte of each word, repeated four times.
    let first = _mm512_broadcast_i32x4(_mm_setr_epi32(0, 0x0404_0404, 0x0808_0808, 0x0C0C_0C0C));
    for (step, quants) in quants.iter_mut().enumerate() {
        #[expect(clippy::cast_possible_truncation, reason = "below 4")]
        let byte = _mm512_set1_epi8((step / 2) as i8);
        let bits = _mm512_shuffle_epi8(bits, _mm512_add_epi8(first, byte));
        let set = _mm512_test_epi8_mask(bits, if step % 2 == 0 { lower } else { upper });
        *quants = _mm512_mask_add_epi8(*quants, set, *quants, _mm512_set1_epi8(16));
    }
    quants
}

/// The first four bytes of each of sixteen small blocks, as words.
///
/// # Safety
/// Four bytes can be read at the beginning of sixteen blocks.
#[target_feature(enable = "avx512f,avx512bw")]
#[inline]
unsafe fn words_at<B: Blocks>(blocks: *const u8) -> __m512i {
    const {
        assert!(B::VALUES == 32 && B::BYTES.is_multiple_of(2) && B::BYTES / 2 >= 8);
        assert!(B::BYTES + 4 <= 64);
    }
    // Two blocks per load. The loads use different parts of the register, so that they can be merged.
    let eight = |first: usize| {
        let mut halves = _mm512_setzero_si512();
        for at in 0..4 {
            let both = 3_u32 << (at * 2) | 3 << (at * 2 + B::BYTES / 2);
            // SAFETY: the mask selects four bytes of each of two blocks, which are within the blocks.
            halves = unsafe {
                let from = blocks.add((first + at * 2) * B::BYTES).wrapping_sub(at * 4);
                _mm512_mask_loadu_epi16(halves, both, from.cast())
            };
        }
        halves
    };
    let order = const {
        let mut order = [0_u16; 32];
        let mut at = 0;
        while at < STRIP_GROUPS {
            let place = at / 8 * 32 + at % 8 / 2 * 2 + at % 2 * (B::BYTES / 2);
            order[at * 2] = place as u16;
            order[at * 2 + 1] = place as u16 + 1;
            at += 1;
        }
        order
    };
    // SAFETY: the array has 64 bytes.
    let order = unsafe { _mm512_loadu_si512(order.as_ptr().cast()) };
    _mm512_permutex2var_epi16(eight(0), order, eight(8))
}

/// Loads a strip of two blocks with four times 32 bytes from byte `AT` on; each 32 bytes have the nibbles of two groups.
///
/// # Safety
/// Two blocks can be read.
#[target_feature(enable = "avx512f,avx512bw,avx512vl")]
#[inline]
pub(super) unsafe fn nibble_pairs<B: Blocks, const AT: usize>(
    blocks: *const u8,
) -> [__m512i; REGISTERS] {
    // SAFETY: as the caller promises.
    let pair = |at: usize| unsafe { of_both::<B>(blocks.add(AT + at * 32)) };
    let bytes = words(pair(0), pair(1), pair(2), pair(3));
    // Each word of a pair, once for each of the two groups.
    let first = _mm512_setr_epi32(0, 0, 1, 1, 2, 2, 3, 3, 8, 8, 9, 9, 10, 10, 11, 11);
    let second = _mm512_add_epi32(first, _mm512_set1_epi32(4));
    let by = _mm512_set1_epi64(4 << 32);
    std::array::from_fn(|step| {
        let order = if step < 4 { first } else { second };
        four_bits(_mm512_srlv_epi32(_mm512_permutexvar_epi32(order, bytes[step % 4]), by))
    })
}

/// The same, with 32 bytes before the nibbles whose bit `g` is the fifth bit of group `g`.
///
/// # Safety
/// As [`nibble_pairs`].
#[target_feature(enable = "avx512f,avx512bw,avx512vl")]
#[inline]
pub(super) unsafe fn nibble_pairs_and_fifths<B: Blocks, const AT: usize>(
    blocks: *const u8,
) -> [__m512i; REGISTERS] {
    // SAFETY: as the caller promises.
    let (quants, bits) =
        unsafe { (nibble_pairs::<B, AT>(blocks), of_both::<B>(blocks.add(AT - 32))) };
    with_bits::<4>(quants, bits)
}

/// Loads a strip of two blocks that have 16 bytes of nibbles for each group from byte `AT` on, low nibbles first; nibbles
/// are indices into the codebook.
///
/// # Safety
/// Two blocks can be read.
#[target_feature(enable = "avx512f,avx512bw")]
#[inline]
pub(super) unsafe fn steps_of_pairs<B: Blocks, const AT: usize>(
    blocks: *const u8,
) -> [__m512i; REGISTERS] {
    // SAFETY: both blocks have 128 bytes from `AT` on.
    let four = |at: usize| unsafe {
        _mm512_loadu_si512(blocks.add(at / 2 * B::BYTES + AT + at % 2 * 64).cast())
    };
    // Neighbouring words of the transposed registers belong to groups that are four apart.
    let order = _mm512_setr_epi32(0, 4, 8, 12, 1, 5, 9, 13, 2, 6, 10, 14, 3, 7, 11, 15);
    let bytes = words(four(0), four(1), four(2), four(3))
        .map(|bytes| _mm512_permutexvar_epi32(order, bytes));
    std::array::from_fn(|step| {
        let bytes = bytes[step % 4];
        chosen(four_bits(if step < 4 { bytes } else { _mm512_srli_epi16::<4>(bytes) }))
    })
}

/// Loads a strip of two blocks that have two times 32 bytes from byte `AT` on; each byte has two bits of each of four
/// groups.
///
/// # Safety
/// Two blocks can be read.
#[target_feature(enable = "avx512f,avx512bw")]
#[inline]
pub(super) unsafe fn two_bits<B: Blocks, const AT: usize>(
    blocks: *const u8,
) -> [__m512i; REGISTERS] {
    // SAFETY: both blocks have 64 bytes there.
    let block = |at: usize| unsafe { _mm512_loadu_si512(blocks.add(at * B::BYTES + AT).cast()) };
    let (first, second) = (block(0), block(1));
    // For each group, the first word of its 32 bytes, and the shift of its bits.
    let bytes = _mm512_setr_epi32(0, 0, 0, 0, 8, 8, 8, 8, 16, 16, 16, 16, 24, 24, 24, 24);
    let by = _mm512_setr_epi32(0, 2, 4, 6, 0, 2, 4, 6, 0, 2, 4, 6, 0, 2, 4, 6);
    std::array::from_fn(|step| {
        let bytes = _mm512_permutex2var_epi32(first, moved(bytes, step), second);
        _mm512_and_si512(_mm512_srlv_epi32(bytes, by), _mm512_set1_epi8(3))
    })
}

/// The same, with the third bits in the first 32 bytes of a block: bit `g` belongs to group `g`.
///
/// # Safety
/// As [`two_bits`].
#[target_feature(enable = "avx512f,avx512bw,avx512vl")]
#[inline]
pub(super) unsafe fn two_bits_and_thirds<B: Blocks, const AT: usize>(
    blocks: *const u8,
) -> [__m512i; REGISTERS] {
    // SAFETY: as the caller promises.
    let (quants, bits) = unsafe { (two_bits::<B, AT>(blocks), of_both::<B>(blocks)) };
    with_bits::<2>(quants, bits)
}

/// Adds bit `PLACE` to the quants of two blocks. `bits` has 32 bytes of each block, whose bit `g` belongs to group `g`.
#[target_feature(enable = "avx512f,avx512bw")]
#[inline]
fn with_bits<const PLACE: i32>(
    mut quants: [__m512i; REGISTERS],
    bits: __m512i,
) -> [__m512i; REGISTERS] {
    // The bit of each group is rotated to that position within its byte.
    let group = _mm512_setr_epi32(0, 1, 2, 3, 4, 5, 6, 7, 0, 1, 2, 3, 4, 5, 6, 7);
    let by = _mm512_sub_epi32(group, _mm512_set1_epi32(PLACE));
    let block = _mm512_setr_epi32(0, 0, 0, 0, 0, 0, 0, 0, 8, 8, 8, 8, 8, 8, 8, 8);
    let only = _mm512_set1_epi8(1 << PLACE);
    for (step, quants) in quants.iter_mut().enumerate() {
        let bits = _mm512_permutexvar_epi32(moved(block, step), bits);
        *quants = _mm512_or_si512(*quants, _mm512_and_si512(_mm512_rorv_epi32(bits, by), only));
    }
    quants
}

/// Adds `step` to indices of words.
#[target_feature(enable = "avx512f")]
#[inline]
fn moved(places: __m512i, step: usize) -> __m512i {
    #[expect(clippy::cast_possible_truncation, clippy::cast_possible_wrap, reason = "below 8")]
    let step = step as i32;
    _mm512_add_epi32(places, _mm512_set1_epi32(step))
}

/// Loads 32 bytes of a block and the corresponding ones of the next block.
#[target_feature(enable = "avx512f,avx512vl")]
#[inline]
unsafe fn of_both<B: Blocks>(at: *const u8) -> __m512i {
    // SAFETY: the caller promises 32 bytes in both blocks.
    unsafe {
        let first = _mm512_castsi256_si512(_mm256_loadu_si256(at.cast()));
        _mm512_inserti64x4::<1>(first, _mm256_loadu_si256(at.add(B::BYTES).cast()))
    }
}
