//! `Q3_K`: 256 values in three bits each; 32 bytes of third bits (a clear one means minus 4), 64
//! bytes of two bits, 12 bytes of six-bit scales for runs of 16, then the common scale.

use super::strip::{Blocks, Strip, half_at, quants};

/// Scale number `at` of 16: four bits in the first eight bytes, two in the last four, less 32.
#[inline(always)]
fn scale(packed: &[u8], at: usize) -> i8 {
    let low = if at < 8 { packed[at] & 0xF } else { packed[at - 8] >> 4 };
    let high = packed[8 + at % 4] >> (at / 4 * 2) & 3;
    (low | high << 4).cast_signed() - 32
}

/// Blocks of `Q3_K`.
#[derive(Debug)]
#[expect(non_camel_case_types, reason = "the name of the format")]
pub struct Q3_K;

impl Blocks for Q3_K {
    const VALUES: usize = 256;
    const BYTES: usize = 110;
    const OFFSET: u8 = 4;
    const MOST: u8 = 7;
    const SUB_SCALES: bool = true;
    const HALVES: bool = true;

    #[inline(always)]
    fn scales(block: &[u8], strip: &mut Strip, at: usize) {
        let packed = &block[96..108];
        strip.scale[at..at + 8].fill(half_at(block, 108));
        for half in 0..2 {
            for group in 0..8 {
                strip.scales[half][at + group] = scale(packed, group * 2 + half);
            }
        }
    }

    #[inline(always)]
    fn quants(block: &[u8], strip: &mut Strip, at: usize) {
        let (third, low) = (&block[..32], &block[32..96]);
        for (part, bytes) in low.as_chunks::<32>().0.iter().enumerate() {
            for quarter in 0..4 {
                let group = part * 4 + quarter;
                let quants = quants(strip, at + group);
                for i in 0..32 {
                    quants[i] = (bytes[i] >> (quarter * 2) & 3) | (third[i] >> group & 1) << 2;
                }
            }
        }
    }
}
