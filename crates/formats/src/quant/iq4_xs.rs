//! `IQ4_XS`: 256 values; a common scale, two bytes and four bytes of six-bit scales for runs of 32
//! (less 32), 128 bytes of nibbles, indices into the codebook of `IQ4_NL`.

use super::iq4_nl::choose;
use super::strip::{Blocks, Strip, half_at, quants};

/// Blocks of `IQ4_XS`.
#[derive(Debug)]
#[expect(non_camel_case_types, reason = "the name of the format")]
pub struct IQ4_XS;

impl Blocks for IQ4_XS {
    const VALUES: usize = 256;
    const BYTES: usize = 136;
    const OFFSET: u8 = 128;
    const MOST: u8 = 241;
    const SUB_SCALES: bool = true;

    #[inline(always)]
    fn scales(block: &[u8], strip: &mut Strip, at: usize) {
        strip.scale[at..at + 8].fill(half_at(block, 0));
        let high = half_at(block, 2);
        for group in 0..8 {
            let four = block[4 + group / 2] >> (group % 2 * 4) & 0xF;
            let two = u8::try_from(high >> (group * 2) & 3).unwrap_or_default();
            strip.scales[0][at + group] = (four | two << 4).cast_signed() - 32;
        }
    }

    #[inline(always)]
    fn quants(block: &[u8], strip: &mut Strip, at: usize) {
        for group in 0..8 {
            choose(&block[8 + group * 16..], quants(strip, at + group));
        }
    }
}
