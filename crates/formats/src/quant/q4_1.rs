//! `Q4_1`: a scale, an offset and 32 nibbles; a value is `scale * nibble + offset`.

use super::group::{Group, half_at, nibbles};

pub(super) fn unpack(block: &[u8], groups: &mut [Group]) {
    let group = &mut groups[0];
    group.scale = half_at(block, 0);
    (group.min, group.mins) = (-half_at(block, 2), [1; 2]);
    nibbles(&block[4..], &mut group.quants, |_, nibble| nibble.cast_signed());
}
