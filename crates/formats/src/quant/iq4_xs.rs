//! `IQ4_XS`: 256 values; a common scale, two bytes and four bytes of six-bit scales for runs of 32
//! (less 32), 128 bytes of nibbles that choose from the steps of `IQ4_NL`.

use super::group::{Group, half_at, nibbles};
use super::iq4_nl::STEPS;

pub(super) fn unpack(block: &[u8], groups: &mut [Group]) {
    let high = u16::from_le_bytes([block[2], block[3]]);
    for (at, group) in groups.iter_mut().enumerate() {
        group.scale = half_at(block, 0);
        let four = i16::from(block[4 + at / 2] >> (at % 2 * 4) & 0xF);
        let two = (high >> (at * 2) & 3).cast_signed();
        group.scales = [(four | two << 4) - 32; 2];
        let bytes = &block[8 + at * 16..][..16];
        nibbles(bytes, &mut group.quants, |_, nibble| STEPS[usize::from(nibble)]);
    }
}
