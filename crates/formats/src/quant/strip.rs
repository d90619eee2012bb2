//! The common form of all block types: strips of sixteen groups of 32 values with integer quants.

use half::f16;

/// Number of values of a group.
pub const GROUP: usize = 32;
/// Number of groups of a strip.
pub const STRIP_GROUPS: usize = 16;
/// Number of values of a strip.
pub const STRIP: usize = GROUP * STRIP_GROUPS;

/// 512 unpacked values of a row. Value `i` of group `g`, in half `h = i / 16`, is
/// `(scale[g] * scales[h][g]) * (quants[32 g + i] - offset) - (min[g] * mins[h][g])`, each step rounded.
///
/// The [`Blocks`] of a type determine which parts it uses: types without sub-scales do not set `scales`, types without minima do
/// not set `min` and `mins`.
#[derive(Debug, Clone)]
#[repr(C, align(64))]
pub struct Strip {
    /// Quants plus `offset`.
    pub quants: [u8; STRIP],
    /// Common scale of a group, as half-precision bits.
    pub scale: [u16; STRIP_GROUPS],
    /// Common factor of the minima of a group, as half-precision bits.
    pub min: [u16; STRIP_GROUPS],
    /// Integer scale of each half.
    pub scales: [[i8; STRIP_GROUPS]; 2],
    /// Integer minimum of each half.
    pub mins: [[u8; STRIP_GROUPS]; 2],
}

impl Default for Strip {
    fn default() -> Self {
        Self {
            quants: [0; STRIP],
            scale: [0; STRIP_GROUPS],
            min: [0; STRIP_GROUPS],
            scales: [[1; STRIP_GROUPS]; 2],
            mins: [[1; STRIP_GROUPS]; 2],
        }
    }
}

/// A type that stores blocks, with the unpacking of a block.
pub trait Blocks: 'static {
    /// Number of values of a block: 32 or 256.
    const VALUES: usize;
    /// Bytes of a block.
    const BYTES: usize;
    /// Offset of the stored quants.
    const OFFSET: u8;
    /// Largest unpacked quant.
    const MOST: u8;
    /// Whether groups have integer scales in addition to the common one.
    const SUB_SCALES: bool = false;
    /// Whether the two halves of a group have separate scales and minima.
    const HALVES: bool = false;
    /// Whether there are minima.
    const MINIMA: bool = false;

    /// Unpacks the scales and minima of a block to the groups of a strip from `at` on.
    fn scales(block: &[u8], strip: &mut Strip, at: usize);

    /// Unpacks the quants likewise.
    fn quants(block: &[u8], strip: &mut Strip, at: usize);
}

/// Unpacks up to sixteen groups of a row; the others become zero.
///
/// # Panics
/// If the blocks are not whole, or more than a strip.
#[inline(always)]
pub fn unpack<B: Blocks>(blocks: &[u8], strip: &mut Strip) {
    let groups = B::VALUES / GROUP;
    let count = blocks.len() / B::BYTES;
    assert!(count * groups <= STRIP_GROUPS, "more than a strip");
    for (at, block) in blocks.chunks_exact(B::BYTES).enumerate() {
        B::scales(block, strip, at * groups);
        B::quants(block, strip, at * groups);
    }
    let used = count * groups;
    if used < STRIP_GROUPS {
        strip.scale[used..].fill(0);
        strip.min[used..].fill(0);
        strip.quants[used * GROUP..].fill(B::OFFSET);
    }
}

impl Strip {
    /// The values of a group.
    pub(super) fn decode<B: Blocks>(&self, group: usize, values: &mut [f32]) {
        let wide = |bits: u16| f16::from_bits(bits).to_f32();
        for (half, values) in values.as_chunks_mut::<16>().0.iter_mut().enumerate() {
            let run = if B::HALVES { half } else { 0 };
            let mut scale = wide(self.scale[group]);
            if B::SUB_SCALES {
                scale *= f32::from(self.scales[run][group]);
            }
            let mut min = 0.0;
            if B::MINIMA {
                min = wide(self.min[group]);
            }
            if B::MINIMA && B::SUB_SCALES {
                min *= f32::from(self.mins[run][group]);
            }
            let quants = &self.quants[group * GROUP + half * 16..];
            for (value, &quant) in values.iter_mut().zip(quants) {
                *value = scale * (f32::from(quant) - f32::from(B::OFFSET)) - min;
            }
        }
    }
}

/// Unpacks the scales of up to sixteen groups; the others become zero.
#[inline(always)]
pub fn unpack_scales<B: Blocks>(blocks: &[u8], strip: &mut Strip) {
    let blocks = blocks.chunks_exact(B::BYTES);
    let used = blocks.len() * (B::VALUES / GROUP);
    for (at, block) in blocks.enumerate() {
        B::scales(block, strip, at * (B::VALUES / GROUP));
    }
    if used < STRIP_GROUPS {
        strip.scale[used..].fill(0);
        strip.min[used..].fill(0);
    }
}

/// The half-precision bits at an offset.
#[inline(always)]
pub(super) fn half_at(block: &[u8], offset: usize) -> u16 {
    u16::from_le_bytes([block[offset], block[offset + 1]])
}

/// The negated half-precision number.
#[inline(always)]
pub(super) fn minus(bits: u16) -> u16 {
    bits ^ 0x8000
}

/// The quants of a group.
#[inline(always)]
pub(super) fn quants(strip: &mut Strip, group: usize) -> &mut [u8; GROUP] {
    &mut strip.quants.as_chunks_mut().0[group]
}

/// Unpacks 16 bytes to their 32 nibbles, low nibbles first.
#[inline(always)]
pub(super) fn nibbles(bytes: &[u8], quants: &mut [u8; GROUP]) {
    let bytes: &[u8; 16] = bytes.first_chunk().expect("a block has them");
    for at in 0..16 {
        quants[at] = bytes[at] & 0xF;
        quants[at + 16] = bytes[at] >> 4;
    }
}

/// Unpacks 32 bytes to the nibbles of two groups: the low nibbles are the first group.
#[inline(always)]
pub(super) fn nibble_pair(bytes: &[u8], quants: &mut [u8]) {
    let bytes: &[u8; 32] = bytes.first_chunk().expect("a block has them");
    let quants: &mut [u8; 64] = quants.first_chunk_mut().expect("a strip has them");
    for at in 0..32 {
        quants[at] = bytes[at] & 0xF;
        quants[at + 32] = bytes[at] >> 4;
    }
}

/// Unpacks eight scales and eight minima of six bits each from 12 bytes.
#[inline(always)]
pub(super) fn six_bits(packed: &[u8]) -> ([u8; 8], [u8; 8]) {
    const SIX: u32 = 0x3F3F_3F3F;
    const FOUR: u32 = 0x0F0F_0F0F;
    const TWO: u32 = 0x0303_0303;
    let word = |at: usize| {
        u32::from_le_bytes([packed[at], packed[at + 1], packed[at + 2], packed[at + 3]])
    };
    let (scales, mins, rest) = (word(0), word(4), word(8));
    let pair = |low: u32, high: u32| (u64::from(low) | u64::from(high) << 32).to_le_bytes();
    (
        pair(scales & SIX, rest & FOUR | (scales >> 6 & TWO) << 4),
        pair(mins & SIX, rest >> 4 & FOUR | (mins >> 6 & TWO) << 4),
    )
}

/// Writes integer scales of eight groups.
#[inline(always)]
pub(super) fn scales_of(strip: &mut Strip, at: usize, half: usize, scales: [u8; 8]) {
    let place: &mut [i8; 8] = strip.scales[half][at..].first_chunk_mut().expect("eight groups");
    *place = scales.map(u8::cast_signed);
}

/// Writes integer minima of eight groups.
#[inline(always)]
pub(super) fn mins_of(strip: &mut Strip, at: usize, half: usize, mins: [u8; 8]) {
    *strip.mins[half][at..].first_chunk_mut().expect("eight groups") = mins;
}
