//! `F32`: four little-endian bytes per value.

pub(super) fn decode(blocks: &[u8], values: &mut [f32]) {
    let (words, _) = blocks.as_chunks::<4>();
    for (value, word) in values.iter_mut().zip(words) {
        *value = f32::from_le_bytes(*word);
    }
}
