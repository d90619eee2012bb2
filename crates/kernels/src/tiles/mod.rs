//! Tiles of BF16: sixteen rows times sixteen columns of sums, 32 terms at a time.
//!
//! **The order.** Both factors are rounded to BF16. Terms are taken 32 at a time, from first to last. The products of the
//! even and of the odd terms are summed separately, from zero, by fused multiply-adds; the two sums are added, and the
//! result is added to the former sum. At every step, subnormal numbers become zero. The number of other rows and columns
//! does not change a sum.
//!
//! Source for the order: measurements of `tdpbf16ps`. [`plain`] is the same in Rust.

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

/// Number of terms of a tile.
pub(crate) const TERMS: usize = 32;
/// Number of rows of a tile, and the largest number of columns of its sums.
pub(crate) const SIDE: usize = 16;
/// Number of tiles one above the other.
pub(crate) const HIGH: usize = 2;

/// Sixteen rows of 32 values each, as a tile register holds them.
#[derive(Debug, Clone, Copy, Pod, Zeroable)]
#[repr(C, align(64))]
pub(crate) struct Tile(pub(crate) [[u16; TERMS]; SIDE]);

/// Sums of sixteen rows for up to sixteen columns.
pub(crate) type Sums = [Sixteen; SIDE];

/// The left factor: 32 rows, as tiles of the upper and of the lower sixteen.
#[derive(Clone, Copy)]
pub(crate) struct Panel<'a> {
    pub(crate) upper: &'a [Tile],
    pub(crate) lower: &'a [Tile],
}

/// The right factor: up to sixteen columns, for example tokens.
pub(crate) struct Group<'a> {
    /// For each tile and each two terms, the values of all columns.
    pub(crate) lines: &'a [Sixteen],
    pub(crate) columns: usize,
    /// Sums of the upper and of the lower rows.
    pub(crate) sums: &'a mut [Sums; HIGH],
}

/// An implementation of the products of tiles.
pub(crate) trait Tiles {
    /// The path that uses it.
    const PATH: Instructions;

    /// Prepares the calling thread.
    fn begin() -> Self;

    /// Adds the products of a panel and a group to the sums of the group.
    fn one(&mut self, panel: Panel<'_>, group: Group<'_>);

    /// The same for two groups of sixteen columns.
    fn two(&mut self, panel: Panel<'_>, groups: [Group<'_>; 2]);

    /// Adds the products of a panel and 32 columns to a square of 32 rows of 32 sums. Rows begin `apart` numbers after one
    /// another.
    fn square(&mut self, panel: Panel<'_>, lines: [&[Sixteen]; 2], sums: &mut [f32], apart: usize);

    /// Writes the sums of `rows` for `tokens` tokens from `token` on.
    fn write(sums: &Sums, out: &Results<'_>, token: usize, rows: Range<usize>, tokens: usize);
}

/// Checks the lengths of the factors: as many upper as lower tiles, and as many tiles of columns.
fn check(panel: Panel<'_>, lines: &[Sixteen], columns: usize) {
    assert_eq!(lines.len(), panel.upper.len() * columns, "the factors differ in length");
    assert_eq!(panel.upper.len(), panel.lower.len(), "upper and lower rows differ in length");
}

/// Checks the length of a square of sums: 32 rows that do not overlap.
fn check_square(sums: &[f32], apart: usize) {
    assert!(apart >= 2 * SIDE, "rows of sums overlap");
    assert!(
        sums.len() >= (HIGH * SIDE - 1) * apart + 2 * SIDE,
        "there are fewer than 32 rows of sums"
    );
}

const _: () = assert!(SIDE == REGISTER, "a line holds two terms of sixteen columns");

#[cfg(test)]
pub(crate) mod tests;
