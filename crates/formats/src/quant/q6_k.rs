//! `Q6_K`: 256 values in six bits each; 128 bytes of four bits, 64 bytes of two bits, 16 signed
//! scales for runs of 16, then the common scale. A value is `scale * run scale * (six bits - 32)`.

use super::strip::{Blocks, Strip, half_at, quants};

/// Blocks of `Q6_K`.
#[derive(Debug)]
#[expect(non_camel_case_types, reason = "the name of the format")]
pub struct Q6_K;

impl Blocks for Q6_K {
    const VALUES: usize = 256;
    const BYTES: usize = 210;
    const OFFSET: u8 = 32;
    const MOST: u8 = 63;
    const SUB_SCALES: bool = true;
    const HALVES: bool = true;

    #[inline(always)]
    fn scales(block: &[u8], strip: &mut Strip, at: usize) {
        let packed = &block[192..208];
        strip.scale[at..at + 8].fill(half_at(block, 208));
        for half in 0..2 {
            for group in 0..8 {
                strip.scales[half][at + group] = packed[group * 2 + half].cast_signed();
            }
        }
    }

    #[inline(always)]
    fn quants(block: &[u8], strip: &mut Strip, at: usize) {
        let (low, high) = (&block[..128], &block[128..192]);
        for part in 0..2 {
            let high: &[u8; 32] = high[part * 32..].first_chunk().expect("a block has them");
            for quarter in 0..4 {
                let low = &low[part * 64 + quarter % 2 * 32..];
                let low: &[u8; 32] = low.first_chunk().expect("a block has them");
                let quants = quants(strip, at + part * 4 + quarter);
                for i in 0..32 {
                    let four = low[i] >> (quarter / 2 * 4) & 0xF;
                    quants[i] = four | (high[i] >> (quarter * 2) & 3) << 4;
                }
            }
        }
    }
}
