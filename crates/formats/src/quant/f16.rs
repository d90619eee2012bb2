//! `F16`: IEEE half precision, two little-endian bytes per value.

use half::f16;

pub(super) fn decode(blocks: &[u8], values: &mut [f32]) {
    let (words, _) = blocks.as_chunks::<2>();
    for (value, word) in values.iter_mut().zip(words) {
        *value = f16::from_le_bytes(*word).to_f32();
    }
}
