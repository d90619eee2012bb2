//! `Q2_K`: 256 values in two bits each; 16 bytes of four-bit scales and minima for runs of 16, 64
//! bytes of values, then the common scale and the factor of the minima.

use super::group::{Group, half_at};

pub(super) fn unpack(block: &[u8], groups: &mut [Group]) {
    let (scales, values) = (&block[..16], &block[16..80]);
    for (at, group) in groups.iter_mut().enumerate() {
        (group.scale, group.min) = (half_at(block, 80), half_at(block, 82));
        let bytes = &values[at / 4 * 32..][..32];
        let shift = at % 4 * 2;
        for (quant, byte) in group.quants.iter_mut().zip(bytes) {
            *quant = (byte >> shift & 3).cast_signed();
        }
        for half in 0..2 {
            let packed = scales[at * 2 + half];
            group.scales[half] = i16::from(packed & 0xF);
            group.mins[half] = i16::from(packed >> 4);
        }
    }
}
