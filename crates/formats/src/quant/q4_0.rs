//! `Q4_0`: a scale and 32 nibbles; a value is `scale * (nibble - 8)`.

use super::group::{Group, half_at, nibbles};

pub(super) fn unpack(block: &[u8], groups: &mut [Group]) {
    let group = &mut groups[0];
    group.scale = half_at(block, 0);
    nibbles(&block[2..], &mut group.quants, |_, nibble| nibble.cast_signed() - 8);
}
