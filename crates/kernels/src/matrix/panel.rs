//! Rows of weights, taken apart once for many tokens.

use super::activations::TILE_TOKENS;
use super::lines::{RowLines, TILE_ROWS};
use crate::prefetch::Prefetch;
use crate::sixteen::Sixteen;

/// Tiles of a panel: so many stay in the nearest cache while tokens pass by.
const PANEL_TILES: usize = 8;
/// Most strips of each row that are in a panel at a time.
const PANEL_STRIPS: usize = 6;
/// Most tiles above one another: more rows would not fill more of a line of results.
const TILES_HIGH: usize = 4;
/// So many tokens are few.
const FEW_TOKENS: usize = 24;

/// Strips of some rows: tiles with the strips of four rows side by side, those of other rows behind them.
#[derive(Debug, Clone)]
pub(super) struct Panel {
    /// As [`RowLines`] tells, tile by tile.
    pub(super) lines: [Sixteen; PANEL_TILES * RowLines::MOST],
    /// How many strips of each row there are.
    pub(super) strips: usize,
}

/// How the stored rows of the next panel are asked for while the one before is computed with.
///
/// Tiles of many tokens take long and ask for little each. Few tokens are done before what they asked for
/// comes; there each strip that is taken apart, which waits for memory anyhow, asks for the one in its place.
#[derive(Debug)]
pub(super) struct Next {
    /// For tiles.
    pub(super) ahead: Prefetch,
    /// For strips: how far on the next panel's are; 0 where tiles ask for them.
    pub(super) distance: usize,
}

impl Next {
    /// For a panel of such a shape that is stored there.
    pub(super) fn of(stored: &[u8], shape: Shape, tokens: usize) -> Self {
        let tiles = tokens.div_ceil(TILE_TOKENS) * shape.rows / TILE_ROWS;
        let (for_tiles, distance) =
            if tokens > FEW_TOKENS { (stored, 0) } else { (&[][..], stored.len()) };
        Self { ahead: Prefetch::of(for_tiles, tiles * shape.blocks), distance }
    }
}

/// How large a panel is.
#[derive(Debug, Clone, Copy)]
pub(super) struct Shape {
    pub(super) rows: usize,
    /// Strips of each row, in all.
    pub(super) stride: usize,
    /// Of these, so many at a time.
    pub(super) strips: usize,
    /// So often.
    pub(super) blocks: usize,
}

impl Shape {
    /// For rows of so many strips and so many tokens. Few tokens use four rows up while these are in the nearest
    /// cache; for many there are as many rows as fit in there.
    pub(super) fn of(stride: usize, tokens: usize) -> Self {
        let strips = stride.div_ceil(stride.div_ceil(PANEL_STRIPS));
        let high = if tokens > FEW_TOKENS { (PANEL_TILES / strips).min(TILES_HIGH) } else { 1 };
        Self { rows: high * TILE_ROWS, stride, strips, blocks: stride.div_ceil(strips) }
    }
}

impl Default for Panel {
    fn default() -> Self {
        Self { lines: [Sixteen::default(); PANEL_TILES * RowLines::MOST], strips: 0 }
    }
}
