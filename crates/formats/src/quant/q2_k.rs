//! `Q2_K`: 256 values in two bits each; 16 bytes of four-bit scales and minima for runs of 16, 64
//! bytes of values, then the common scale and the factor of the minima.

use super::strip::{Blocks, Strip, half_at, quants};

/// Blocks of `Q2_K`.
#[derive(Debug)]
#[expect(non_camel_case_types, reason = "the name of the format")]
pub struct Q2_K;

impl Blocks for Q2_K {
    const VALUES: usize = 256;
    const BYTES: usize = 84;
    const OFFSET: u8 = 0;
    const MOST: u8 = 3;
    const SUB_SCALES: bool = true;
    const HALVES: bool = true;
    const MINIMA: bool = true;

    #[inline(always)]
    fn scales(block: &[u8], strip: &mut Strip, at: usize) {
        let packed = &block[..16];
        strip.scale[at..at + 8].fill(half_at(block, 80));
        strip.min[at..at + 8].fill(half_at(block, 82));
        for half in 0..2 {
            for group in 0..8 {
                let packed = packed[group * 2 + half];
                strip.scales[half][at + group] = (packed & 0xF).cast_signed();
                strip.mins[half][at + group] = packed >> 4;
            }
        }
    }

    #[inline(always)]
    fn quants(block: &[u8], strip: &mut Strip, at: usize) {
        let values = &block[16..80];
        for (part, bytes) in values.as_chunks::<32>().0.iter().enumerate() {
            for quarter in 0..4 {
                let quants = quants(strip, at + part * 4 + quarter);
                for i in 0..32 {
                    quants[i] = bytes[i] >> (quarter * 2) & 3;
                }
            }
        }
    }
}
