//! `Q5_1`: a scale, an offset, 32 fifth bits and 32 nibbles; a value is `scale * five bits + offset`.

use super::q5_0::five_bits;
use super::strip::{Blocks, Strip, half_at, minus, quants};

/// Blocks of `Q5_1`.
#[derive(Debug)]
pub struct Q5_1;

impl Blocks for Q5_1 {
    const VALUES: usize = 32;
    const BYTES: usize = 24;
    const OFFSET: u8 = 0;
    const MOST: u8 = 31;
    const MINIMA: bool = true;

    #[inline(always)]
    fn scales(block: &[u8], strip: &mut Strip, at: usize) {
        strip.scale[at] = half_at(block, 0);
        strip.min[at] = minus(half_at(block, 2));
    }

    #[inline(always)]
    fn quants(block: &[u8], strip: &mut Strip, at: usize) {
        five_bits(&block[4..], quants(strip, at));
    }
}
