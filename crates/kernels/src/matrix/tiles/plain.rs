//! The specification of tiles: obvious and slow.

use std::ops::Range;

use super::{COLUMNS, Group, Panel, SIDE, Sums, Tile, Tiles};
use crate::sixteen::Sixteen;
use crate::team::Results;
use crate::{Path, on_every_path};

/// To BF16: the nearest, ties to even; what is smaller than a normal number becomes zero.
#[inline(always)]
pub(in crate::matrix) fn brain(value: f32) -> u16 {
    let bits = value.to_bits();
    let high = (bits >> 16) as u16;
    if bits & 0x7F80_0000 == 0 {
        return high & 0x8000;
    }
    if value.is_nan() {
        // Its upper half alone could say infinity.
        return high | 0x40;
    }
    (bits.wrapping_add(0x7FFF + (bits >> 16 & 1)) >> 16) as u16
}

/// What it is worth to a tile, where what is smaller than a normal number is zero.
#[inline(always)]
fn widened(brain: u16) -> f32 {
    flushed(f32::from_bits(u32::from(brain) << 16))
}

/// Zero, with its sign, where a value is smaller than a normal number.
#[inline(always)]
fn flushed(value: f32) -> f32 {
    if value.abs() < f32::MIN_POSITIVE { 0.0_f32.copysign(value) } else { value }
}

on_every_path! {
    /// Adds the products of tiles of weights with tiles of tokens.
    pub(super) fn add_products(
        left: &[Tile],
        lines: &[Sixteen],
        tokens: usize,
        sums: &mut Sums,
    ) = add_products_plain;
}

#[inline(always)]
fn add_products_plain(left: &[Tile], lines: &[Sixteen], tokens: usize, sums: &mut Sums) {
    for (left, lines) in left.iter().zip(lines.chunks_exact(tokens)) {
        let pairs: &[[u16; 2]] = bytemuck::cast_slice(lines);
        // Values of the even columns and of the odd, for each pair those of all tokens.
        let mut right = [[[0f32; SIDE]; SIDE]; 2];
        for (pair, own) in pairs.chunks_exact(tokens).enumerate() {
            for (token, values) in own.iter().enumerate() {
                right[0][pair][token] = widened(values[0]);
                right[1][pair][token] = widened(values[1]);
            }
        }
        for (row, sums) in left.0.iter().zip(sums.iter_mut()) {
            add_row(row, &right, &mut sums.0);
        }
    }
}

/// Adds the products of one row: even columns and odd ones apart, then both, then to what there was.
#[inline(always)]
fn add_row(row: &[u16; COLUMNS], right: &[[[f32; SIDE]; SIDE]; 2], sums: &mut [f32; SIDE]) {
    let (mut even, mut odd) = ([0f32; SIDE], [0f32; SIDE]);
    for (pair, values) in row.as_chunks::<2>().0.iter().enumerate() {
        let [first, second] = values.map(widened);
        for token in 0..SIDE {
            even[token] = flushed(first.mul_add(right[0][pair][token], even[token]));
            odd[token] = flushed(second.mul_add(right[1][pair][token], odd[token]));
        }
    }
    for token in 0..SIDE {
        let both = flushed(even[token] + odd[token]);
        sums[token] = flushed(both + flushed(sums[token]));
    }
}

/// Tiles without their instructions.
pub(super) struct Simulated;

impl Tiles for Simulated {
    const PATH: Path = Path::AmxSimulated;

    fn begin() -> Self {
        Self
    }

    fn one(&mut self, panel: &Panel<'_>, group: Group<'_>) {
        let [upper, lower] = group.sums;
        add_products(Self::PATH, panel.upper, group.lines, group.tokens, upper);
        add_products(Self::PATH, panel.lower, group.lines, group.tokens, lower);
    }

    fn two(&mut self, panel: &Panel<'_>, groups: [Group<'_>; 2]) {
        groups.into_iter().for_each(|group| self.one(panel, group));
    }

    fn write(sums: &Sums, out: &Results<'_>, token: usize, rows: Range<usize>, tokens: usize) {
        for at in 0..tokens {
            for row in rows.clone() {
                let (place, _) = out.at(token + at, row);
                // SAFETY: the place is one of the results, which one thread has for itself.
                unsafe { *place = sums[row - rows.start].0[at] };
            }
        }
    }
}
