//! `IQ4_NL`: a scale and 32 nibbles that choose from sixteen uneven steps.

use super::group::{Group, half_at, nibbles};

/// The steps, as the format defines them.
pub(super) const STEPS: [i8; 16] =
    [-127, -104, -83, -65, -49, -35, -22, -10, 1, 13, 25, 38, 53, 69, 89, 113];

pub(super) fn unpack(block: &[u8], groups: &mut [Group]) {
    let group = &mut groups[0];
    group.scale = half_at(block, 0);
    nibbles(&block[2..], &mut group.quants, |_, nibble| STEPS[usize::from(nibble)]);
}
