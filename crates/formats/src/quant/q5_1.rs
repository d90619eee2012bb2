//! `Q5_1`: a scale, an offset, 32 fifth bits and 32 nibbles; a value is `scale * five bits + offset`.

use super::group::{Group, half_at};
use super::q5_0::five_bits;

pub(super) fn unpack(block: &[u8], groups: &mut [Group]) {
    let group = &mut groups[0];
    group.scale = half_at(block, 0);
    (group.min, group.mins) = (-half_at(block, 2), [1; 2]);
    five_bits(&block[4..], &mut group.quants, 0);
}
