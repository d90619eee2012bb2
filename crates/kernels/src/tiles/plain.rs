//! Products of tiles in plain Rust: the specification, simple and slow.

use std::ops::Range;

use super::{Group, Panel, SIDE, Sums, TERMS, Tile, Tiles, check, check_square};
use crate::sixteen::Sixteen;
use crate::team::Results;
use crate::{Instructions, on_every_path};

/// Rounds to the nearest BF16, ties to even; subnormal numbers become zero.
#[inline(always)]
pub(crate) fn brain(value: f32) -> u16 {
    let bits = value.to_bits();
    let high = (bits >> 16) as u16;
    if bits & 0x7F80_0000 == 0 {
        return high & 0x8000;
    }
    if value.is_nan() {
        // Without this bit, the upper half alone could be infinity.
        return high | 0x40;
    }
    (bits.wrapping_add(0x7FFF + (bits >> 16 & 1)) >> 16) as u16
}

/// Converts BF16 to a float as a tile reads it: subnormal numbers are zero.
#[inline(always)]
fn widened(brain: u16) -> f32 {
    flushed(f32::from_bits(u32::from(brain) << 16))
}

/// Replaces subnormal numbers by zero with the same sign.
#[inline(always)]
fn flushed(value: f32) -> f32 {
    if value.abs() < f32::MIN_POSITIVE { 0.0_f32.copysign(value) } else { value }
}

on_every_path! {
    /// Adds the products of left tiles and of right tiles with `columns` columns.
    fn add_products(
        left: &[Tile],
        lines: &[Sixteen],
        columns: usize,
        sums: &mut Sums,
    ) = add_products_plain;
}

#[inline(always)]
fn add_products_plain(left: &[Tile], lines: &[Sixteen], columns: usize, sums: &mut Sums) {
    for (left, lines) in left.iter().zip(lines.chunks_exact(columns)) {
        let pairs: &[[u16; 2]] = bytemuck::cast_slice(lines);
        // The even and the odd terms: for each pair, the values of all columns.
        let mut right = [[[0f32; SIDE]; SIDE]; 2];
        for (pair, own) in pairs.chunks_exact(columns).enumerate() {
            for (column, values) in own.iter().enumerate() {
                right[0][pair][column] = widened(values[0]);
                right[1][pair][column] = widened(values[1]);
            }
        }
        for (row, sums) in left.0.iter().zip(sums.iter_mut()) {
            add_row(row, &right, &mut sums.0);
        }
    }
}

/// Adds the products of one row: the sums of even and of odd terms are added, then added to the former sums.
#[inline(always)]
fn add_row(row: &[u16; TERMS], right: &[[[f32; SIDE]; SIDE]; 2], sums: &mut [f32; SIDE]) {
    let (mut even, mut odd) = ([0f32; SIDE], [0f32; SIDE]);
    for (pair, values) in row.as_chunks::<2>().0.iter().enumerate() {
        let [first, second] = values.map(widened);
        for column in 0..SIDE {
            even[column] = flushed(first.mul_add(right[0][pair][column], even[column]));
            odd[column] = flushed(second.mul_add(right[1][pair][column], odd[column]));
        }
    }
    for column in 0..SIDE {
        let both = flushed(even[column] + odd[column]);
        sums[column] = flushed(both + flushed(sums[column]));
    }
}

/// Products of tiles without the instructions of AMX.
pub(crate) struct Simulated;

impl Tiles for Simulated {
    const PATH: Instructions = Instructions::AmxSimulated;

    fn begin() -> Self {
        Self
    }

    fn one(&mut self, panel: Panel<'_>, group: Group<'_>) {
        check(panel, group.lines, group.columns);
        for (left, sums) in [panel.upper, panel.lower].into_iter().zip(group.sums) {
            add_products(Self::PATH, left, group.lines, group.columns, sums);
        }
    }

    fn two(&mut self, panel: Panel<'_>, groups: [Group<'_>; 2]) {
        groups.into_iter().for_each(|group| self.one(panel, group));
    }

    fn square(&mut self, panel: Panel<'_>, lines: [&[Sixteen]; 2], sums: &mut [f32], apart: usize) {
        check_square(sums, apart);
        for (left, below) in [panel.upper, panel.lower].into_iter().zip([0, SIDE]) {
            for (lines, beside) in lines.into_iter().zip([0, SIDE]) {
                check(panel, lines, SIDE);
                let row = |row: usize| (below + row) * apart + beside;
                let mut tile: Sums = std::array::from_fn(|at| {
                    Sixteen(std::array::from_fn(|column| sums[row(at) + column]))
                });
                add_products(Self::PATH, left, lines, SIDE, &mut tile);
                for (at, own) in tile.iter().enumerate() {
                    sums[row(at)..][..SIDE].copy_from_slice(&own.0);
                }
            }
        }
    }

    fn write(sums: &Sums, out: &Results<'_>, token: usize, rows: Range<usize>, tokens: usize) {
        for at in 0..tokens {
            for row in rows.clone() {
                let (place, _) = out.at(token + at, row);
                // SAFETY: the address is that of a result, and no other thread uses these results.
                unsafe { *place = sums[row - rows.start].0[at] };
            }
        }
    }
}
