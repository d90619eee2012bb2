//! Rows of weights, taken apart once for many tokens.

use deft_formats::quant::{STRIP, STRIP_GROUPS};

#[cfg(target_arch = "x86_64")]
use super::activations::TILE_TOKENS;
#[cfg(target_arch = "x86_64")]
use crate::ahead::Ahead;

/// Most rows of a panel.
pub(super) const PANEL_ROWS: usize = 16;
/// So many tokens are few.
const FEW_TOKENS: usize = 24;
/// Rows of a tile.
pub(super) const TILE_ROWS: usize = 4;
/// Strips of each row that are in a panel at a time: with some tokens they stay in the nearest cache.
pub(super) const PANEL_STRIPS: usize = 6;
/// Bytes of a line of the caches.
pub(super) const LINE: usize = 64;
/// Dot instructions that a strip takes.
const STEPS: usize = STRIP / 64;

/// A strip of four rows, in the order in which a tile reads it.
#[derive(Debug, Clone, Copy)]
#[repr(C, align(64))]
pub(super) struct RowTile {
    /// For each dot instruction and row, four quants of each of sixteen groups.
    pub(super) quants: [[[u8; 64]; TILE_ROWS]; STEPS],
    /// Scales of groups, or of both halves of groups.
    pub(super) scales: [[[f32; STRIP_GROUPS]; TILE_ROWS]; 2],
    /// Likewise minima.
    pub(super) mins: [[[f32; STRIP_GROUPS]; TILE_ROWS]; 2],
}

/// The partial sums of a row and a token.
#[derive(Debug, Clone, Copy, Default)]
#[repr(C, align(64))]
pub(super) struct Sums(pub(super) [f32; STRIP_GROUPS]);

/// Strips of some rows.
#[derive(Debug, Clone)]
pub(super) struct Panel {
    pub(super) tiles: [[RowTile; PANEL_STRIPS]; PANEL_ROWS / TILE_ROWS],
    /// How many of the strips are in use.
    pub(super) strips: usize,
}

/// How the stored rows of the next panel are asked for while the one before is computed with.
///
/// Tiles of many tokens take long and ask for little each. Few tokens are done before what they asked for
/// comes; there each strip that is taken apart, which waits for memory anyhow, asks for the one in its place.
#[cfg(target_arch = "x86_64")]
#[derive(Debug)]
pub(super) struct Next {
    /// For tiles.
    pub(super) ahead: Ahead,
    /// For strips: how far on the next panel's are; 0 where tiles ask for them.
    pub(super) distance: usize,
}

#[cfg(target_arch = "x86_64")]
impl Next {
    /// For a panel of so many strips, of all its rows together.
    pub(super) fn of(stored: &[u8], strips: usize, tokens: usize) -> Self {
        let tiles = tokens.div_ceil(TILE_TOKENS) * strips.div_ceil(TILE_ROWS * PANEL_STRIPS);
        let (for_tiles, distance) =
            if tokens > FEW_TOKENS { (stored, 0) } else { (&[][..], stored.len()) };
        Self { ahead: Ahead::of(for_tiles, LINE, tiles), distance }
    }
}

/// Rows of the panels for so many tokens. Few tokens use a panel up while it is in the nearest cache. Many
/// would push it out of there anyhow; then the more rows it has, the more seldom they themselves are read from
/// the caches far away.
pub(super) fn panel_rows(tokens: usize) -> usize {
    if tokens > FEW_TOKENS { PANEL_ROWS } else { TILE_ROWS }
}

impl Default for Panel {
    fn default() -> Self {
        let tile = RowTile {
            quants: [[[0; 64]; TILE_ROWS]; STEPS],
            scales: [[[0.0; STRIP_GROUPS]; TILE_ROWS]; 2],
            mins: [[[0.0; STRIP_GROUPS]; TILE_ROWS]; 2],
        };
        Self { tiles: [[tile; PANEL_STRIPS]; PANEL_ROWS / TILE_ROWS], strips: 0 }
    }
}
