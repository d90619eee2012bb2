//! Stored rows to tiles of weights.

use deft_formats::quant::{STRIP, TensorType};
#[cfg(target_arch = "x86_64")]
use deft_formats::with_blocks;

use crate::Instructions;
#[cfg(target_arch = "x86_64")]
use crate::matrix::avx512;
use crate::tiles::{TERMS as COLUMNS, Tile, brain};

/// Takes up to 512 values of a row apart, given their number and how far on more is asked for, to a row of tiles.
type Strip = fn(&[u8], usize, usize, &mut [Tile], usize);

/// How rows of a type are taken apart.
#[derive(Clone, Copy)]
pub(super) enum Taken {
    /// By way of values, as the format says.
    Decoded(TensorType),
    /// Straight.
    #[cfg(target_arch = "x86_64")]
    Straight(Strip),
}

/// How a path takes rows of a type apart.
pub(super) fn taken(path: Instructions, tensor_type: TensorType) -> Taken {
    #[cfg(target_arch = "x86_64")]
    if path == Instructions::Amx {
        return Taken::Straight(straight(tensor_type));
    }
    let _ = path;
    Taken::Decoded(tensor_type)
}

#[cfg(target_arch = "x86_64")]
fn straight(tensor_type: TensorType) -> Strip {
    match tensor_type {
        // SAFETY: the path was found on this processor; nothing else is demanded.
        TensorType::F16 => |stored, _, ahead, tiles, row| unsafe {
            avx512::half_row(stored, ahead, tiles, row);
        },
        TensorType::BF16 => |stored, _, _, tiles, row| as_it_is(stored, tiles, row),
        TensorType::F32 => panic!("rows of F32 are multiplied as they are"),
        blocks => with_blocks!(blocks, B => {
            // SAFETY: as above.
            |stored, _, ahead, tiles, row| unsafe {
                avx512::row_of_tiles::<B>(stored, ahead, tiles, row);
            }
        }),
    }
}

/// Values that are stored as tiles want them. (To a tile what is smaller than a normal number is zero anyhow.)
#[cfg(target_arch = "x86_64")]
fn as_it_is(stored: &[u8], tiles: &mut [Tile], row: usize) {
    for (stored, tile) in stored.chunks(2 * COLUMNS).zip(tiles) {
        let bytes: &mut [u8] = bytemuck::cast_slice_mut(&mut tile.0[row]);
        bytes[..stored.len()].copy_from_slice(stored);
        bytes[stored.len()..].fill(0);
    }
}

impl Taken {
    /// Up to 512 values of a row: a row of as many tiles as they fill, the last one filled up with zeros. With few
    /// tokens what is so many bytes on is asked for meanwhile.
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
            Self::Straight(strip) => strip(stored, values, ahead, tiles, row),
        }
    }
}

/// The specification.
fn decoded(tensor_type: TensorType, stored: &[u8], values: usize, tiles: &mut [Tile], row: usize) {
    let mut decoded = [0f32; STRIP];
    tensor_type.decode(stored, &mut decoded[..values]);
    for (values, tile) in decoded.as_chunks::<COLUMNS>().0.iter().zip(tiles) {
        tile.0[row] = values.map(brain);
    }
}
