//! The common form of all block types: groups of 32 values with integer quants.

use half::f16;

/// Values in a group.
pub const GROUP: usize = 32;

/// 32 values taken apart. Value `i`, in half `h = i / 16`, is
/// `(scale * scales[h]) * quants[i] - (min * mins[h])`, each step rounded.
///
/// All block types fit: those without sub-scales have ones, those without minima zeros. Products of
/// quants with eight-bit activations, weighted by the integer sub-scales, stay exact integers.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Group {
    /// Whole numbers.
    pub quants: [i8; GROUP],
    /// Integer scale of each half.
    pub scales: [i16; 2],
    /// Integer minimum of each half.
    pub mins: [i16; 2],
    /// Common scale.
    pub scale: f32,
    /// Common factor of the minima.
    pub min: f32,
}

impl Default for Group {
    fn default() -> Self {
        Self { quants: [0; GROUP], scales: [1; 2], mins: [0; 2], scale: 0.0, min: 0.0 }
    }
}

impl Group {
    /// The values.
    pub(super) fn decode(&self, values: &mut [f32; GROUP]) {
        for (half, values) in values.as_chunks_mut::<16>().0.iter_mut().enumerate() {
            let scale = self.scale * f32::from(self.scales[half]);
            let min = self.min * f32::from(self.mins[half]);
            for (value, &quant) in values.iter_mut().zip(&self.quants[half * 16..]) {
                *value = scale * f32::from(quant) - min;
            }
        }
    }
}

/// The half-precision number at an offset.
pub(super) fn half_at(block: &[u8], offset: usize) -> f32 {
    f16::from_le_bytes([block[offset], block[offset + 1]]).to_f32()
}

/// Splits 16 bytes into the 32 whole numbers of their nibbles: low nibbles first.
pub(super) fn nibbles(bytes: &[u8], quants: &mut [i8; GROUP], value: impl Fn(usize, u8) -> i8) {
    for (at, &byte) in bytes[..16].iter().enumerate() {
        quants[at] = value(at, byte & 0xF);
        quants[at + 16] = value(at + 16, byte >> 4);
    }
}

/// Scale and minimum number `at` of the eight that 12 bytes hold, six bits each.
pub(super) fn six_bits(packed: &[u8], at: usize) -> (i16, i16) {
    let (scale, min) = if at < 4 {
        (packed[at] & 63, packed[at + 4] & 63)
    } else {
        let low = packed[at + 4];
        ((low & 0xF) | (packed[at - 4] >> 6 << 4), (low >> 4) | (packed[at] >> 6 << 4))
    };
    (i16::from(scale), i16::from(min))
}
