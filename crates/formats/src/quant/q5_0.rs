//! `Q5_0`: a scale, 32 fifth bits and 32 nibbles; a value is `scale * (five bits - 16)`.

use super::group::{Group, half_at};

pub(super) fn unpack(block: &[u8], groups: &mut [Group]) {
    let group = &mut groups[0];
    group.scale = half_at(block, 0);
    five_bits(&block[2..], &mut group.quants, 16);
}

/// Four bytes of fifth bits, then 16 bytes of nibbles; `less` is taken from each.
pub(super) fn five_bits(bytes: &[u8], quants: &mut [i8; 32], less: i8) {
    let fifth = u32::from_le_bytes([bytes[0], bytes[1], bytes[2], bytes[3]]);
    super::group::nibbles(&bytes[4..], quants, |at, nibble| {
        let bit = u8::from(fifth >> at & 1 == 1);
        (nibble | bit << 4).cast_signed() - less
    });
}
