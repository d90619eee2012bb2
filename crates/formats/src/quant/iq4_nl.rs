//! `IQ4_NL`: a scale and 32 nibbles, indices into a codebook of sixteen values.

use super::strip::{Blocks, GROUP, Strip, half_at, nibbles, quants};

/// The codebook of the format, plus 128.
pub const CODEBOOK: [u8; 16] = {
    const SIGNED: [i8; 16] =
        [-127, -104, -83, -65, -49, -35, -22, -10, 1, 13, 25, 38, 53, 69, 89, 113];
    let mut steps = [0; 16];
    let mut at = 0;
    while at < 16 {
        steps[at] = SIGNED[at].cast_unsigned() ^ 0x80;
        at += 1;
    }
    steps
};

/// The codebook values of 16 bytes of nibbles.
#[inline(always)]
pub(super) fn choose(bytes: &[u8], quants: &mut [u8; GROUP]) {
    nibbles(bytes, quants);
    for quant in quants {
        *quant = CODEBOOK[usize::from(*quant & 0xF)];
    }
}

/// Blocks of `IQ4_NL`.
#[derive(Debug)]
#[expect(non_camel_case_types, reason = "the name of the format")]
pub struct IQ4_NL;

impl Blocks for IQ4_NL {
    const VALUES: usize = 32;
    const BYTES: usize = 18;
    const OFFSET: u8 = 128;
    const MOST: u8 = 241;

    #[inline(always)]
    fn scales(block: &[u8], strip: &mut Strip, at: usize) {
        strip.scale[at] = half_at(block, 0);
    }

    #[inline(always)]
    fn quants(block: &[u8], strip: &mut Strip, at: usize) {
        choose(&block[2..], quants(strip, at));
    }
}
