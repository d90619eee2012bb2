//! `Q4_K`: 256 values in four bits each; common scale and factor of the minima, 12 bytes of six-bit
//! scales and minima for runs of 32, 128 bytes of values in interleaved runs.

use super::group::{Group, half_at, six_bits};

pub(super) fn unpack(block: &[u8], groups: &mut [Group]) {
    for (at, group) in groups.iter_mut().enumerate() {
        (group.scale, group.min) = (half_at(block, 0), half_at(block, 2));
        let (scale, min) = six_bits(&block[4..16], at);
        (group.scales, group.mins) = ([scale; 2], [min; 2]);
        let bytes = &block[16 + at / 2 * 32..][..32];
        let shift = at % 2 * 4;
        for (quant, byte) in group.quants.iter_mut().zip(bytes) {
            *quant = (byte >> shift & 0xF).cast_signed();
        }
    }
}
