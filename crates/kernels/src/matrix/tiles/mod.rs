//! Products by tiles of BF16: sixteen rows of weights times sixteen tokens, 32 columns at a time.
//!
//! **The order.** Weights are converted to floats as `TensorType::decode` defines and rounded to BF16, and so are
//! activations. Sums begin at zero; the columns are their terms, in the order of [`crate::tiles`]. One token takes the same
//! steps as many, so the number of tokens does not change a bit.

mod tokens;
mod weights;

use std::cell::RefCell;
use std::ops::Range;

use bytemuck::Zeroable;

use super::activations::Activations;
use super::work::{Cut, Work};
use super::{Matrix, Stored};
use crate::Instructions;
use crate::sixteen::Sixteen;
use crate::team::{Outputs, Results};
#[cfg(target_arch = "x86_64")]
use crate::tiles::Amx;
use crate::tiles::{Group, HIGH, Panel, SIDE, Simulated, Sums, TERMS as COLUMNS, Tile, Tiles};

pub(super) use tokens::{lines_of, round};
use weights::Unpacking;

/// Number of rows of a panel.
const ROWS: usize = HIGH * SIDE;
/// Number of tiles of a panel side by side (one strip), so that a panel stays in the L1 cache while all tokens are
/// multiplied.
const WIDE: usize = 16;
/// Bytes of activations that stay in a core's own caches while rows are read. Processors with tiles have 2 MiB.
const NEAR_BYTES: usize = 1280 << 10;
/// Least number of tokens that are multiplied together. With fewer, unpacking the weights again costs more than it saves.
const LEAST_TOKENS: usize = 96;
/// Number of multiplications below which one thread computes a product alone.
const LEAST_PRODUCTS: usize = 1 << 18;

/// Working space of a thread.
#[derive(Default)]
struct Space {
    panel: Vec<Tile>,
    sums: Vec<[Sums; HIGH]>,
}

thread_local! {
    static SPACE: RefCell<Space> = RefCell::default();
}

/// A product of any type but `F32`, as work for a team.
pub(super) fn work<'a>(
    path: Instructions,
    matrix: Matrix<Stored<'a>>,
    x: &'a Activations,
    out: Outputs<'a>,
) -> Work<'a> {
    let part = tokens_together(x.tokens, matrix.columns);
    let cut = Cut {
        count: matrix.rows.div_ceil(ROWS) * x.tokens.div_ceil(part.max(1)),
        grain: LEAST_PRODUCTS.div_ceil((part * matrix.columns * ROWS).max(1)),
        run: match path {
            #[cfg(target_arch = "x86_64")]
            Instructions::Amx => run::<Amx>,
            _ => run::<Simulated>,
        },
    };
    Work { matrix, x, out, part, cut }
}

/// Number of tokens that are multiplied together: whole groups whose activations fit a core's own caches.
fn tokens_together(tokens: usize, columns: usize) -> usize {
    let near = (NEAR_BYTES / (2 * columns.max(1))).max(LEAST_TOKENS);
    let parts = tokens.div_ceil(near).max(1);
    tokens.div_ceil(parts).next_multiple_of(SIDE)
}

fn run<T: Tiles>(work: &Work<'_>, pieces: Range<usize>) {
    let Matrix { tensor_type, columns, .. } = work.matrix;
    let rows_of = Rows {
        work,
        across: columns.div_ceil(COLUMNS),
        unpacking: weights::unpacking(T::PATH, tensor_type),
        ahead: if work.x.tokens <= SIDE { work.row_bytes() * ROWS } else { 0 },
    };
    SPACE.with_borrow_mut(|space| {
        let mut tiles = T::begin();
        for (tokens, rows) in work.panels(pieces, ROWS) {
            let lines = &work.x.tiles_of(tokens.start)[..tokens.len() * rows_of.across];
            // SAFETY: each piece (rows of some tokens) is given to one thread once.
            let results = unsafe { work.out.results(tokens, rows.clone()) };
            rows_of.panel(&mut tiles, rows, lines, space, &results);
        }
    });
}

/// What all panels of a product share.
struct Rows<'a> {
    work: &'a Work<'a>,
    /// Number of tiles of a row.
    across: usize,
    unpacking: Unpacking,
    /// Distance in bytes at which weights are prefetched; 0 with many tokens, which use each weight often enough.
    ahead: usize,
}

impl Rows<'_> {
    /// Multiplies some rows by some tokens; `lines` has the tiles of the tokens, group by group.
    fn panel<T: Tiles>(
        &self,
        tiles: &mut T,
        rows: Range<usize>,
        lines: &[Sixteen],
        space: &mut Space,
        out: &Results<'_>,
    ) {
        let Space { panel, sums } = space;
        panel.resize(HIGH * WIDE, Tile::zeroed());
        sums.clear();
        sums.resize(out.tokens().div_ceil(SIDE), <[Sums; HIGH]>::zeroed());
        let mut first = 0;
        while first < self.across {
            let wide = WIDE.min(self.across - first);
            self.unpack(rows.clone(), first, wide, panel);
            let (upper, lower) = panel.split_at(WIDE);
            let unpacked = Panel { upper: &upper[..wide], lower: &lower[..wide] };
            let groups = groups(lines, sums, out.tokens(), self.across, first..first + wide);
            multiply_groups(tiles, unpacked, groups);
            first += wide;
        }
        for (at, sums) in sums.iter().enumerate() {
            let tokens = SIDE.min(out.tokens() - at * SIDE);
            for (high, sums) in sums.iter().enumerate().take(rows.len().div_ceil(SIDE)) {
                let rows = high * SIDE..rows.len().min((high + 1) * SIDE);
                T::write(sums, out, at * SIDE, rows, tokens);
            }
        }
    }

    /// Unpacks some columns of some rows. Rows of the panel beyond the last one are unchanged.
    fn unpack(&self, rows: Range<usize>, first: usize, wide: usize, panel: &mut [Tile]) {
        let Matrix { tensor_type, columns, bytes, .. } = self.work.matrix;
        let columns = first * COLUMNS..columns.min((first + wide) * COLUMNS);
        let own = tensor_type.row_bytes(columns.start)..tensor_type.row_bytes(columns.end);
        let (row_bytes, bytes) = (self.work.row_bytes(), bytes.near());
        for (at, row) in rows.enumerate() {
            let stored = &bytes[row * row_bytes..][own.clone()];
            let tiles = &mut panel[at / SIDE * WIDE..][..wide];
            self.unpacking.strip(stored, columns.len(), self.ahead, tiles, at % SIDE);
        }
    }
}

/// The groups of tokens, each with its lines of a range of tiles.
fn groups<'a>(
    lines: &'a [Sixteen],
    sums: &'a mut [[Sums; HIGH]],
    tokens: usize,
    across: usize,
    tiles: Range<usize>,
) -> impl Iterator<Item = Group<'a>> {
    sums.iter_mut().enumerate().map(move |(at, sums)| {
        let own = SIDE.min(tokens - at * SIDE);
        let lines = &lines[at * SIDE * across..][..own * across];
        Group { lines: &lines[own * tiles.start..own * tiles.end], columns: own, sums }
    })
}

/// Multiplies whole groups in pairs, so that each loaded tile is used for two products.
fn multiply_groups<'a, T: Tiles>(
    tiles: &mut T,
    panel: Panel<'_>,
    mut groups: impl Iterator<Item = Group<'a>>,
) {
    while let Some(one) = groups.next() {
        match groups.next() {
            Some(two) if two.columns == SIDE => tiles.two(panel, [one, two]),
            Some(two) => {
                tiles.one(panel, one);
                tiles.one(panel, two);
            }
            None => tiles.one(panel, one),
        }
    }
}

#[cfg(test)]
mod tests;
