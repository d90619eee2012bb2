//! `Q3_K`: 256 values in three bits each; 32 bytes of third bits (a clear one means minus 4), 64
//! bytes of two bits, 12 bytes of six-bit scales for runs of 16, then the common scale.

use super::group::{Group, half_at};

pub(super) fn unpack(block: &[u8], groups: &mut [Group]) {
    let (third, low, scales) = (&block[..32], &block[32..96], &block[96..108]);
    for (at, group) in groups.iter_mut().enumerate() {
        group.scale = half_at(block, 108);
        let bytes = &low[at / 4 * 32..][..32];
        let shift = at % 4 * 2;
        for ((quant, byte), third) in group.quants.iter_mut().zip(bytes).zip(third) {
            let less = if third >> at & 1 == 1 { 0 } else { 4 };
            *quant = (byte >> shift & 3).cast_signed() - less;
        }
        for half in 0..2 {
            group.scales[half] = scale(scales, at * 2 + half);
        }
    }
}

/// Scale number `at` of 16: four bits in the first eight bytes, two in the last four, less 32.
fn scale(packed: &[u8], at: usize) -> i16 {
    let low = if at < 8 { packed[at] & 0xF } else { packed[at - 8] >> 4 };
    let high = packed[8 + at % 4] >> (at / 4 * 2) & 3;
    i16::from(low | high << 4) - 32
}
