//! `Q4_0`: a scale and 32 nibbles; a value is `scale * (nibble - 8)`.

use super::strip::{Blocks, Strip, half_at, nibbles, quants};

/// Blocks of `Q4_0`.
#[derive(Debug)]
pub struct Q4_0;

impl Blocks for Q4_0 {
    const VALUES: usize = 32;
    const BYTES: usize = 18;
    const OFFSET: u8 = 8;
    const MOST: u8 = 15;

    #[inline(always)]
    fn scales(block: &[u8], strip: &mut Strip, at: usize) {
        strip.scale[at] = half_at(block, 0);
    }

    #[inline(always)]
    fn quants(block: &[u8], strip: &mut Strip, at: usize) {
        nibbles(&block[2..], quants(strip, at));
    }
}
