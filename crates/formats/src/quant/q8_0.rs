//! `Q8_0`: blocks of 32 values, one half-precision scale and 32 signed bytes.
//! A value is `scale * byte`.

use half::f16;

use super::group::{GROUP, Group, half_at};

const BYTES: usize = 2 + GROUP;

pub(super) fn unpack(block: &[u8], groups: &mut [Group]) {
    let group = &mut groups[0];
    group.scale = half_at(block, 0);
    for (quant, byte) in group.quants.iter_mut().zip(&block[2..]) {
        *quant = byte.cast_signed();
    }
}

/// Packs values into blocks: scale = largest magnitude / 127, halves rounded away from zero.
///
/// # Panics
/// When the number of values is not a multiple of 32.
#[must_use]
pub fn encode_q8_0(values: &[f32]) -> Vec<u8> {
    let (chunks, rest) = values.as_chunks::<GROUP>();
    assert!(rest.is_empty(), "{} values are not whole blocks", values.len());
    let mut bytes = Vec::with_capacity(chunks.len() * BYTES);
    for chunk in chunks {
        let largest = chunk.iter().fold(0f32, |largest, value| largest.max(value.abs()));
        let scale = largest / 127.0;
        let inverse = if scale > 0.0 { 1.0 / scale } else { 0.0 };
        bytes.extend_from_slice(&f16::from_f32(scale).to_le_bytes());
        #[expect(clippy::cast_possible_truncation, reason = "clamped to the range of a byte")]
        bytes.extend(
            chunk.iter().map(|value| {
                ((value * inverse).round().clamp(-127.0, 127.0) as i8).cast_unsigned()
            }),
        );
    }
    bytes
}
