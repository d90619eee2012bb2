//! Scores and weighted sums of a page by tiles of BF16: 32 queries at a time.
//!
//! **The order.** Queries, keys, weights and values are rounded to BF16 and summed as [`crate::tiles`] says. The terms of a
//! score are the values of a key. The terms of a weighted value are the positions of a page; positions that
//! no query sees count as zeros. Softmax between the two is that of the other class.

use std::ops::Range;

use bytemuck::Zeroable;

use super::PAGE;
use super::plain::Rows;
use crate::Instructions;
#[cfg(target_arch = "x86_64")]
use crate::matrix::{Half, Single};
use crate::on_every_path;
use crate::sixteen::Sixteen;
#[cfg(target_arch = "x86_64")]
use crate::tiles::Amx;
use crate::tiles::{HIGH, Panel, SIDE, Simulated, TERMS, Tile, Tiles, brain};

/// Number of queries that are multiplied together.
pub(super) const SQUARE: usize = HIGH * SIDE;

/// Working space of a thread.
#[derive(Default)]
pub(super) struct Squares {
    /// For each sixteen queries the tiles of their values.
    queries: Vec<Tile>,
    /// Keys or values of a page.
    lines: Vec<Sixteen>,
}

impl Squares {
    /// Converts queries, `queries x length`.
    pub(super) fn take_queries(&mut self, path: Instructions, queries: &[f32], length: usize) {
        let across = length.div_ceil(TERMS);
        let count = (queries.len() / length).next_multiple_of(SQUARE) / SIDE;
        self.queries.clear();
        self.queries.resize(count * across, Tile::zeroed());
        let tiles = self.queries.chunks_exact_mut(across);
        for (queries, tiles) in queries.chunks(SIDE * length).zip(tiles) {
            round_left(path, queries, length, tiles);
        }
    }

    /// `scores[query][position] = keys[.][position] . query` for some of the queries and those beside them; `keys` is
    /// `length x positions`. Prefetches `next`.
    pub(super) fn scores(
        &mut self,
        path: Instructions,
        keys: Rows<'_>,
        length: usize,
        rows: &Range<usize>,
        scores: &mut [[f32; PAGE]],
        next: &[u8],
    ) {
        self.take_right(path, keys, PAGE, length, next);
        match path {
            #[cfg(target_arch = "x86_64")]
            Instructions::Amx => self.multiply_keys::<Amx>(length.div_ceil(TERMS), rows, scores),
            _ => self.multiply_keys::<Simulated>(length.div_ceil(TERMS), rows, scores),
        }
    }

    fn multiply_keys<T: Tiles>(
        &self,
        across: usize,
        rows: &Range<usize>,
        scores: &mut [[f32; PAGE]],
    ) {
        let mut tiles = T::begin();
        let (first, second) = self.lines.split_at(across * SIDE);
        for square in squares(rows) {
            let scores = scores[square.clone()].as_flattened_mut();
            scores.fill(0.0);
            let queries = &self.queries[square.start / SIDE * across..][..HIGH * across];
            let (upper, lower) = queries.split_at(across);
            tiles.square(Panel { upper, lower }, [first, second], scores, PAGE);
        }
    }

    /// `sums[query] += weights[query][position] * values[position]` for some queries and the first `used` positions;
    /// rows of values are `stored` long, of sums `width`, a multiple of 32. Prefetches `next`.
    #[expect(clippy::too_many_arguments, reason = "two matrices, what of them, and the result")]
    pub(super) fn gather(
        &mut self,
        path: Instructions,
        weights: &mut [[f32; PAGE]],
        rows: &Range<usize>,
        values: Rows<'_>,
        (stored, used): (usize, usize),
        width: usize,
        sums: &mut [f32],
        next: &[u8],
    ) {
        self.take_right(path, values, stored, used, next);
        match path {
            #[cfg(target_arch = "x86_64")]
            Instructions::Amx => self.multiply_values::<Amx>(weights, rows, width, sums),
            _ => self.multiply_values::<Simulated>(weights, rows, width, sums),
        }
    }

    fn multiply_values<T: Tiles>(
        &self,
        weights: &mut [[f32; PAGE]],
        rows: &Range<usize>,
        width: usize,
        sums: &mut [f32],
    ) {
        let mut tiles = T::begin();
        for square in squares(rows) {
            let weights = &mut weights[square.clone()];
            // Queries of the tile that do not see the page have no weights.
            let looking = rows.start.max(square.start)..rows.end.min(square.end);
            weights[..looking.start - square.start].fill([0.0; PAGE]);
            weights[looking.end - square.start..].fill([0.0; PAGE]);
            let mut rounded = [Tile::zeroed(); HIGH];
            for (weights, tile) in weights.chunks_exact(SIDE).zip(&mut rounded) {
                round_left(T::PATH, weights.as_flattened(), PAGE, std::slice::from_mut(tile));
            }
            let [upper, lower] = rounded.each_ref().map(std::slice::from_ref);
            let sums = &mut sums[square.start * width..square.end * width];
            for (at, lines) in self.lines.chunks_exact(2 * SIDE).enumerate() {
                let (first, second) = lines.split_at(SIDE);
                let sums = &mut sums[at * 2 * SIDE..];
                tiles.square(Panel { upper, lower }, [first, second], sums, width);
            }
        }
    }

    /// Takes the first `terms` rows of a page, `columns` long: for each sixteen columns, and each 32 terms, a tile. Terms are
    /// filled up to whole tiles and columns to pairs of sixteen, with zeros.
    fn take_right(
        &mut self,
        path: Instructions,
        rows: Rows<'_>,
        columns: usize,
        terms: usize,
        next: &[u8],
    ) {
        assert!(columns.is_multiple_of(SIDE) && rows.len() >= terms * columns, "rows too short");
        let across = terms.div_ceil(TERMS);
        let blocks = columns.next_multiple_of(2 * SIDE) / SIDE;
        self.lines.resize(blocks * across * SIDE, Sixteen::zeroed());
        let (lines, beyond) = self.lines.split_at_mut(columns / SIDE * across * SIDE);
        beyond.fill(Sixteen::zeroed());
        match rows {
            #[cfg(target_arch = "x86_64")]
            // SAFETY: the path was found on this processor; lengths were asserted.
            Rows::Half(bytes) => unsafe {
                crate::tiles::right::<Half>(bytes, columns, terms, lines, next);
            },
            #[cfg(target_arch = "x86_64")]
            // SAFETY: as above.
            Rows::Single(floats) if path == Instructions::Amx => unsafe {
                let bytes = bytemuck::cast_slice(floats);
                crate::tiles::right::<Single>(bytes, columns, terms, lines, next);
            },
            rows => round_right(path, rows.floats(), columns, terms, lines),
        }
    }
}

/// The squares that contain a range of queries.
fn squares(rows: &Range<usize>) -> impl Iterator<Item = Range<usize>> {
    (rows.start / SQUARE..rows.end.div_ceil(SQUARE)).map(|at| at * SQUARE..(at + 1) * SQUARE)
}

/// Converts up to sixteen rows to a row of tiles, padded with zeros.
fn round_left(path: Instructions, values: &[f32], length: usize, tiles: &mut [Tile]) {
    #[cfg(target_arch = "x86_64")]
    if path == Instructions::Amx {
        // SAFETY: the path was found on this processor.
        return unsafe { crate::tiles::left(values, length, tiles) };
    }
    round_left_plainly(path, values, length, tiles);
}

on_every_path! {
    fn round_left_plainly(values: &[f32], length: usize, tiles: &mut [Tile]) = plain_left;
    fn round_right(
        values: &[f32],
        columns: usize,
        terms: usize,
        lines: &mut [Sixteen],
    ) = plain_right;
}

#[inline(always)]
fn plain_left(values: &[f32], length: usize, tiles: &mut [Tile]) {
    for (row, values) in values.chunks_exact(length).enumerate() {
        for (values, tile) in values.chunks(TERMS).zip(&mut *tiles) {
            tile.0[row] = [0; TERMS];
            tile.0[row].iter_mut().zip(values).for_each(|(place, value)| *place = brain(*value));
        }
    }
}

#[inline(always)]
fn plain_right(values: &[f32], columns: usize, terms: usize, lines: &mut [Sixteen]) {
    let across = terms.div_ceil(TERMS);
    for (at, line) in lines.iter_mut().enumerate() {
        let (block, term) = (at / SIDE / across, at / SIDE % across * TERMS + at % SIDE * 2);
        let pairs: &mut [[u16; 2]; SIDE] = bytemuck::cast_mut(line);
        for (column, pair) in pairs.iter_mut().enumerate() {
            for (half, place) in pair.iter_mut().enumerate() {
                let is_there = term + half < terms;
                let value = (term + half) * columns + block * SIDE + column;
                *place = if is_there { brain(values[value]) } else { 0 };
            }
        }
    }
}
