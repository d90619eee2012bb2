//! Tiles of BF16: sixteen rows times sixteen columns of sums, 32 terms at a time.
//!
//! **The order.** Both sides are rounded to BF16. To a sum, for each 32 terms, first to last, two sums that begin at
//! nothing take the products of the even and of the odd terms by fused multiply-adds; the two are added, and then added to
//! what there was. Whatever is smaller than a normal number becomes zero at every step. Each sum goes through the same
//! steps however many stand beside it.
//!
//! Source for the order: what `tdpbf16ps` was measured to compute; [`plain`] says it again in Rust.

#[cfg(target_arch = "x86_64")]
mod amx;
#[cfg(target_arch = "x86_64")]
mod avx512;
mod plain;

use std::ops::Range;

use bytemuck::{Pod, Zeroable};

use crate::Instructions;
use crate::sixteen::{REGISTER, Sixteen};
use crate::team::Results;

#[cfg(all(test, target_arch = "x86_64"))]
pub(crate) use amx::instructions;
#[cfg(target_arch = "x86_64")]
pub(crate) use amx::{Amx, present};
#[cfg(target_arch = "x86_64")]
pub(crate) use avx512::{first_of, left, right, rounded, transposed};
pub(crate) use plain::{Simulated, brain};

/// Terms of a tile.
pub(crate) const TERMS: usize = 32;
/// Rows of a tile, and most columns of its sums.
pub(crate) const SIDE: usize = 16;
/// Tiles above one another.
pub(crate) const HIGH: usize = 2;

/// Sixteen rows of 32 values each, as a tile register holds them.
#[derive(Debug, Clone, Copy, Pod, Zeroable)]
#[repr(C, align(64))]
pub(crate) struct Tile(pub(crate) [[u16; TERMS]; SIDE]);

/// Sums of sixteen rows for up to sixteen columns.
pub(crate) type Sums = [Sixteen; SIDE];

/// Rows on the left: tiles of the upper sixteen, then those of the lower.
#[derive(Clone, Copy)]
pub(crate) struct Panel<'a> {
    pub(crate) upper: &'a [Tile],
    pub(crate) lower: &'a [Tile],
}

/// Columns on the right, such as tokens, up to sixteen.
pub(crate) struct Group<'a> {
    /// For each tile, for each two terms, the values of all columns.
    pub(crate) lines: &'a [Sixteen],
    pub(crate) columns: usize,
    /// Of the upper rows and of the lower.
    pub(crate) sums: &'a mut [Sums; HIGH],
}

/// What multiplies tiles.
pub(crate) trait Tiles {
    /// The path that it belongs to.
    const PATH: Instructions;

    /// Ready to multiply, on this thread.
    fn begin() -> Self;

    /// Adds a panel's products with one group.
    fn one(&mut self, panel: Panel<'_>, group: Group<'_>);

    /// With two groups of sixteen columns.
    fn two(&mut self, panel: Panel<'_>, groups: [Group<'_>; 2]);

    /// Adds a panel's products with twice sixteen columns to sums that stand in rows: 32 rows, `apart` numbers from one to the
    /// next, of which the first 32 take part.
    fn square(&mut self, panel: Panel<'_>, lines: [&[Sixteen]; 2], sums: &mut [f32], apart: usize);

    /// Writes sums of some rows for the first of sixteen tokens from one on.
    fn write(sums: &Sums, out: &Results<'_>, token: usize, rows: Range<usize>, tokens: usize);
}

/// Lengths fit: as many tiles above as below, and as many lines for each of so many columns.
fn check(panel: Panel<'_>, lines: &[Sixteen], columns: usize) {
    assert_eq!(lines.len(), panel.upper.len() * columns, "tiles without columns");
    assert_eq!(panel.upper.len(), panel.lower.len(), "rows of tiles differ");
}

/// Lengths of a square fit: 32 rows of sums, so many numbers apart.
fn check_square(sums: &[f32], apart: usize) {
    assert!(apart >= 2 * SIDE, "rows of sums overlap");
    assert!(sums.len() >= (HIGH * SIDE - 1) * apart + 2 * SIDE, "rows without sums");
}

const _: () = assert!(SIDE == REGISTER, "a line holds two terms of sixteen columns");

#[cfg(test)]
pub(crate) mod tests;
