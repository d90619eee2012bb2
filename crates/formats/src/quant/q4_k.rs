//! `Q4_K`: 256 values in four bits each; common scale and factor of the minima, 12 bytes of six-bit
//! scales and minima for runs of 32, 128 bytes of values in interleaved runs.

use super::strip::{Blocks, Strip, half_at, mins_of, nibble_pair, scales_of, six_bits};

/// Blocks of `Q4_K`.
#[derive(Debug)]
#[expect(non_camel_case_types, reason = "the name of the format")]
pub struct Q4_K;

impl Blocks for Q4_K {
    const VALUES: usize = 256;
    const BYTES: usize = 144;
    const OFFSET: u8 = 0;
    const MOST: u8 = 15;
    const SUB_SCALES: bool = true;
    const MINIMA: bool = true;

    #[inline(always)]
    fn scales(block: &[u8], strip: &mut Strip, at: usize) {
        strip.scale[at..at + 8].fill(half_at(block, 0));
        strip.min[at..at + 8].fill(half_at(block, 2));
        let (scales, mins) = six_bits(&block[4..16]);
        scales_of(strip, at, 0, scales);
        mins_of(strip, at, 0, mins);
    }

    #[inline(always)]
    fn quants(block: &[u8], strip: &mut Strip, at: usize) {
        for (pair, bytes) in block[16..].as_chunks::<32>().0.iter().enumerate() {
            nibble_pair(bytes, &mut strip.quants[(at + pair * 2) * 32..]);
        }
    }
}
