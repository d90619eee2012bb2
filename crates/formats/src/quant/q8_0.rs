//! `Q8_0`: blocks of 32 values, one half-precision scale and 32 signed bytes.
//! A value is `scale * byte`.

use half::f16;

/// Values in one block.
pub const Q8_BLOCK: usize = 32;
const BYTES: usize = 2 + Q8_BLOCK;

/// One block, taken apart.
#[derive(Debug, Clone, Copy)]
pub struct BlockQ8<'a> {
    /// The scale, exact in single precision.
    pub scale: f32,
    /// The 32 bytes.
    pub quants: &'a [u8; Q8_BLOCK],
}

impl<'a> BlockQ8<'a> {
    /// The blocks of a row.
    pub fn of_row(row: &'a [u8]) -> impl Iterator<Item = Self> {
        row.as_chunks::<BYTES>().0.iter().map(|block| {
            let (scale, quants) = block.split_at(2);
            Self {
                scale: f16::from_le_bytes([scale[0], scale[1]]).to_f32(),
                quants: quants.try_into().expect("a block holds 32 bytes after its scale"),
            }
        })
    }
}

pub(super) fn decode(blocks: &[u8], values: &mut [f32]) {
    let (chunks, _) = values.as_chunks_mut::<Q8_BLOCK>();
    for (chunk, block) in chunks.iter_mut().zip(BlockQ8::of_row(blocks)) {
        for (value, &quant) in chunk.iter_mut().zip(block.quants) {
            *value = block.scale * f32::from(quant.cast_signed());
        }
    }
}

/// Packs values into blocks: scale = largest magnitude / 127, halves rounded away from zero.
///
/// # Panics
/// When the number of values is not a multiple of 32.
#[must_use]
pub fn encode_q8_0(values: &[f32]) -> Vec<u8> {
    let (chunks, rest) = values.as_chunks::<Q8_BLOCK>();
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
