//! Conversion of stored rows to tiles.

use deft_formats::quant::{STRIP, TensorType};
#[cfg(target_arch = "x86_64")]
use deft_formats::with_blocks;

use crate::Instructions;
#[cfg(target_arch = "x86_64")]
use crate::matrix::avx512;
use crate::tiles::{TERMS as COLUMNS, Tile, brain};

/// Converts up to 512 stored values to row number `row` of several tiles. Arguments: the stored bytes, the number of values,
/// the distance of the prefetch, the tiles, the row.
type Strip = fn(&[u8], usize, usize, &mut [Tile], usize);

/// How rows of a type are unpacked.
#[derive(Clone, Copy)]
pub(super) enum Unpacking {
    /// By decoding to floats: the specification.
    Decoded(TensorType),
    /// By a function of the path.
    #[cfg(target_arch = "x86_64")]
    Direct(Strip),
}

/// How a path unpacks rows of a type.
pub(super) fn unpacking(path: Instructions, tensor_type: TensorType) -> Unpacking {
    #[cfg(target_arch = "x86_64")]
    if path == Instructions::Amx {
        return Unpacking::Direct(direct(tensor_type));
    }
    let _ = path;
    Unpacking::Decoded(tensor_type)
}

#[cfg(target_arch = "x86_64")]
fn direct(tensor_type: TensorType) -> Strip {
    match tensor_type {
        // SAFETY: the path was detected on this processor; there are no other conditions.
        TensorType::F16 => |stored, _, ahead, tiles, row| unsafe {
            avx512::half_row(stored, ahead, tiles, row);
        },
        TensorType::BF16 => |stored, _, _, tiles, row| copy(stored, tiles, row),
        TensorType::F32 => panic!("rows of F32 are multiplied as floats"),
        blocks => with_blocks!(blocks, B => {
            // SAFETY: as above.
            |stored, _, ahead, tiles, row| unsafe {
                avx512::row_of_tiles::<B>(stored, ahead, tiles, row);
            }
        }),
    }
}

/// Copies values that are stored as BF16. (Products of tiles treat subnormal numbers as zero.)
#[cfg(target_arch = "x86_64")]
fn copy(stored: &[u8], tiles: &mut [Tile], row: usize) {
    for (stored, tile) in stored.chunks(2 * COLUMNS).zip(tiles) {
        let bytes: &mut [u8] = bytemuck::cast_slice_mut(&mut tile.0[row]);
        bytes[..stored.len()].copy_from_slice(stored);
        bytes[stored.len()..].fill(0);
    }
}

impl Unpacking {
    /// Converts up to 512 values of a row to row number `row` of several tiles; the last tile is padded with zeros. If
    /// `ahead` is not zero, prefetches at that distance.
    pub(super) fn strip(
        self,
        stored: &[u8],
        values: usize,
        ahead: usize,
        tiles: &mut [Tile],
        row: usize,
    ) {
        match self {
            Self::Decoded(tensor_type) => decoded(tensor_type, stored, values, tiles, row),
            #[cfg(target_arch = "x86_64")]
            Self::Direct(strip) => strip(stored, values, ahead, tiles, row),
        }
    }
}

/// Decodes to floats, then rounds: the specification.
fn decoded(tensor_type: TensorType, stored: &[u8], values: usize, tiles: &mut [Tile], row: usize) {
    let mut decoded = [0f32; STRIP];
    tensor_type.decode(stored, &mut decoded[..values]);
    for (values, tile) in decoded.as_chunks::<COLUMNS>().0.iter().zip(tiles) {
        tile.0[row] = values.map(brain);
    }
}
