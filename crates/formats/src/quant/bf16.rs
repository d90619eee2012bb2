//! `BF16`: the upper half of single precision.

pub(super) fn decode(blocks: &[u8], values: &mut [f32]) {
    let (words, _) = blocks.as_chunks::<2>();
    for (value, word) in values.iter_mut().zip(words) {
        *value = f32::from_bits(u32::from(u16::from_le_bytes(*word)) << 16);
    }
}
