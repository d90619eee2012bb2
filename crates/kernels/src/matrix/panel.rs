//! Panels: rows of weights, unpacked once for many tokens.

use super::activations::TILE_TOKENS;
use super::lines::{RowLines, TILE_ROWS};
use crate::prefetch::Prefetch;
use crate::sixteen::Sixteen;

/// Most tiles of a panel, so that it stays in the L1 cache while all tokens are multiplied.
const PANEL_TILES: usize = 8;
/// Most strips of each row in a panel.
const PANEL_STRIPS: usize = 6;
/// Most tiles one above the other: 16 rows fill a cache line of results.
const TILES_HIGH: usize = 4;
/// Most tokens that count as few.
const FEW_TOKENS: usize = 24;

/// Unpacked strips of some rows, in tiles of four rows.
#[derive(Debug, Clone)]
pub(super) struct Panel {
    /// Tile by tile, each as [`RowLines`] describes.
    pub(super) lines: [Sixteen; PANEL_TILES * RowLines::MOST],
    /// Number of strips of each row.
    pub(super) strips: usize,
}

/// How the next panel's rows are prefetched while the current panel is used.
///
/// With many tokens a tile takes long, so each tile prefetches a little. Few tokens are done before a prefetch arrives;
/// then each strip that is unpacked, which waits for memory anyway, prefetches the strip in its place.
#[derive(Debug)]
pub(super) struct Next {
    /// What tiles prefetch.
    pub(super) ahead: Prefetch,
    /// Distance in bytes at which strips prefetch; 0 if tiles prefetch instead.
    pub(super) distance: usize,
}

impl Next {
    /// For the next panel's stored rows.
    pub(super) fn of(stored: &[u8], shape: Shape, tokens: usize) -> Self {
        let tiles = tokens.div_ceil(TILE_TOKENS) * shape.rows / TILE_ROWS;
        let (for_tiles, distance) =
            if tokens > FEW_TOKENS { (stored, 0) } else { (&[][..], stored.len()) };
        Self { ahead: Prefetch::of(for_tiles, tiles * shape.blocks), distance }
    }
}

/// Size of the panels of a matrix.
#[derive(Debug, Clone, Copy)]
pub(super) struct Shape {
    pub(super) rows: usize,
    /// Number of strips of a whole row.
    pub(super) stride: usize,
    /// Number of strips of a row in one panel.
    pub(super) strips: usize,
    /// Number of panels per row.
    pub(super) blocks: usize,
}

impl Shape {
    /// For rows of `stride` strips. Few tokens use panels of four rows, which are in the L1 cache anyway; many tokens use
    /// as many rows as fit there.
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
