//! `Q4_1`: a scale, an offset and 32 nibbles; a value is `scale * nibble + offset`.

use super::strip::{Blocks, Strip, half_at, minus, nibbles, quants};

/// Blocks of `Q4_1`.
#[derive(Debug)]
pub struct Q4_1;

impl Blocks for Q4_1 {
    const VALUES: usize = 32;
    const BYTES: usize = 20;
    const OFFSET: u8 = 0;
    const MOST: u8 = 15;
    const MINIMA: bool = true;

    #[inline(always)]
    fn scales(block: &[u8], strip: &mut Strip, at: usize) {
        strip.scale[at] = half_at(block, 0);
        strip.min[at] = minus(half_at(block, 2));
    }

    #[inline(always)]
    fn quants(block: &[u8], strip: &mut Strip, at: usize) {
        nibbles(&block[4..], quants(strip, at));
    }
}
