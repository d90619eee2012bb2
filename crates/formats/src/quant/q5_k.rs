//! `Q5_K`: as `Q4_K`, with 32 bytes of fifth bits before the values.

use super::strip::{Blocks, Strip, half_at, mins_of, nibble_pair, quants, scales_of, six_bits};

/// Blocks of `Q5_K`.
#[derive(Debug)]
#[expect(non_camel_case_types, reason = "the name of the format")]
pub struct Q5_K;

impl Blocks for Q5_K {
    const VALUES: usize = 256;
    const BYTES: usize = 176;
    const OFFSET: u8 = 0;
    const MOST: u8 = 31;
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
        let fifth: &[u8; 32] = block[16..].first_chunk().expect("a block has them");
        for (pair, bytes) in block[48..].as_chunks::<32>().0.iter().enumerate() {
            nibble_pair(bytes, &mut strip.quants[(at + pair * 2) * 32..]);
            for group in [pair * 2, pair * 2 + 1] {
                let quants = quants(strip, at + group);
                for i in 0..32 {
                    quants[i] |= (fifth[i] >> group & 1) << 4;
                }
            }
        }
    }
}
