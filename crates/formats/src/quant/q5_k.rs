//! `Q5_K`: as `Q4_K`, with 32 bytes of fifth bits before the values.

use super::group::{Group, half_at, six_bits};

pub(super) fn unpack(block: &[u8], groups: &mut [Group]) {
    let fifth = &block[16..48];
    for (at, group) in groups.iter_mut().enumerate() {
        (group.scale, group.min) = (half_at(block, 0), half_at(block, 2));
        let (scale, min) = six_bits(&block[4..16], at);
        (group.scales, group.mins) = ([scale; 2], [min; 2]);
        let bytes = &block[48 + at / 2 * 32..][..32];
        let shift = at % 2 * 4;
        for ((quant, byte), fifth) in group.quants.iter_mut().zip(bytes).zip(fifth) {
            *quant = ((byte >> shift & 0xF) | (fifth >> at & 1) << 4).cast_signed();
        }
    }
}
