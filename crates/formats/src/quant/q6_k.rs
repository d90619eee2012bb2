//! `Q6_K`: 256 values in six bits each; 128 bytes of four bits, 64 bytes of two bits, 16 signed
//! scales for runs of 16, then the common scale. A value is `scale * run scale * (six bits - 32)`.

use super::group::{Group, half_at};

pub(super) fn unpack(block: &[u8], groups: &mut [Group]) {
    let (low, high, scales) = (&block[..128], &block[128..192], &block[192..208]);
    for (at, group) in groups.iter_mut().enumerate() {
        group.scale = half_at(block, 208);
        let (part, quarter) = (at / 4, at % 4);
        let low = &low[part * 64 + quarter % 2 * 32..][..32];
        let high = &high[part * 32..][..32];
        for ((quant, low), high) in group.quants.iter_mut().zip(low).zip(high) {
            let four = low >> (quarter / 2 * 4) & 0xF;
            let two = high >> (quarter * 2) & 3;
            *quant = (four | two << 4).cast_signed() - 32;
        }
        for half in 0..2 {
            group.scales[half] = i16::from(scales[at * 2 + half].cast_signed());
        }
    }
}
