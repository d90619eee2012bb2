//! `Q8_0`: blocks of 32 values, one half-precision scale and 32 signed bytes.
//! A value is `scale * byte`.

use half::f16;

use super::strip::{Blocks, GROUP, Strip, half_at, quants};

const BYTES: usize = 2 + GROUP;

/// Blocks of `Q8_0`.
#[derive(Debug)]
pub struct Q8_0;

impl Blocks for Q8_0 {
    const VALUES: usize = GROUP;
    const BYTES: usize = BYTES;
    const OFFSET: u8 = 128;
    const MOST: u8 = 255;

    #[inline(always)]
    fn scales(block: &[u8], strip: &mut Strip, at: usize) {
        strip.scale[at] = half_at(block, 0);
    }

    #[inline(always)]
    fn quants(block: &[u8], strip: &mut Strip, at: usize) {
        let bytes: &[u8; GROUP] = block[2..].first_chunk().expect("a block has them");
        let quants = quants(strip, at);
        for i in 0..GROUP {
            quants[i] = bytes[i] ^ 0x80;
        }
    }
}

/// Packs values into blocks: scale = largest magnitude / 127, halves rounded away from zero. A block with a value that is not
/// finite becomes NaN as a whole, so that the error is noticed.
///
/// # Panics
/// If `values` are not whole blocks, or `blocks` does not have 34 bytes for each.
pub fn encode_q8_0(values: &[f32], blocks: &mut [u8]) {
    let (chunks, rest) = values.as_chunks::<GROUP>();
    assert!(rest.is_empty(), "{} values are not whole blocks", values.len());
    assert_eq!(blocks.len(), chunks.len() * BYTES, "values and blocks differ in length");
    for (chunk, block) in chunks.iter().zip(blocks.as_chunks_mut::<BYTES>().0) {
        let largest = chunk.iter().fold(0f32, |largest, value| largest.max(value.abs()));
        let finite = chunk.iter().all(|value| value.is_finite());
        let scale = if finite { largest / 127.0 } else { f32::NAN };
        let inverse = if scale > 0.0 { 1.0 / scale } else { 0.0 };
        let (head, quants) = block.split_at_mut(2);
        head.copy_from_slice(&f16::from_f32(scale).to_le_bytes());
        for (quant, value) in quants.iter_mut().zip(chunk) {
            #[expect(clippy::cast_possible_truncation, reason = "clamped to the range of a byte")]
            let rounded = (value * inverse).round().clamp(-127.0, 127.0) as i8;
            *quant = rounded.cast_unsigned();
        }
    }
}
