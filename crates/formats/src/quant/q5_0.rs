//! `Q5_0`: a scale, 32 fifth bits and 32 nibbles; a value is `scale * (five bits - 16)`.

use super::strip::{Blocks, GROUP, Strip, half_at, nibbles, quants};

/// Four bytes of fifth bits, then 16 bytes of nibbles.
#[inline(always)]
pub(super) fn five_bits(bytes: &[u8], quants: &mut [u8; GROUP]) {
    nibbles(&bytes[4..], quants);
    let fifth = u32::from_le_bytes(*bytes.first_chunk().expect("a block has them"));
    for (at, quant) in quants.iter_mut().enumerate() {
        let bit = (fifth >> at & 1) as u8;
        *quant |= bit << 4;
    }
}

/// Blocks of `Q5_0`.
#[derive(Debug)]
pub struct Q5_0;

impl Blocks for Q5_0 {
    const VALUES: usize = 32;
    const BYTES: usize = 22;
    const OFFSET: u8 = 16;
    const MOST: u8 = 31;

    #[inline(always)]
    fn scales(block: &[u8], strip: &mut Strip, at: usize) {
        strip.scale[at] = half_at(block, 0);
    }

    #[inline(always)]
    fn quants(block: &[u8], strip: &mut Strip, at: usize) {
        five_bits(&block[2..], quants(strip, at));
    }
}
