//! Rows of weights, taken apart once for many tokens.

use deft_formats::quant::{STRIP, STRIP_GROUPS};

/// Rows of a panel.
pub(super) const PANEL_ROWS: usize = 16;
/// Strips of each row that are in a panel at a time: with some tokens they stay in the nearest cache.
pub(super) const PANEL_STRIPS: usize = 6;

/// A strip of a row, ready to be multiplied.
#[derive(Debug, Clone, Copy)]
#[repr(C, align(64))]
pub(super) struct PanelStrip {
    /// Four quants of each of sixteen groups in turn.
    pub(super) quants: [u8; STRIP],
    /// Scales of groups, or of both halves of groups.
    pub(super) scales: [[f32; STRIP_GROUPS]; 2],
    /// Likewise minima.
    pub(super) mins: [[f32; STRIP_GROUPS]; 2],
}

/// The partial sums of a row and a token.
#[derive(Debug, Clone, Copy, Default)]
#[repr(C, align(64))]
pub(super) struct Sums(pub(super) [f32; STRIP_GROUPS]);

/// Strips of sixteen rows.
#[derive(Debug, Clone)]
pub(super) struct Panel {
    pub(super) rows: [[PanelStrip; PANEL_STRIPS]; PANEL_ROWS],
    /// How many of them are in use.
    pub(super) strips: usize,
}

impl Default for Panel {
    fn default() -> Self {
        let strip = PanelStrip {
            quants: [0; STRIP],
            scales: [[0.0; STRIP_GROUPS]; 2],
            mins: [[0.0; STRIP_GROUPS]; 2],
        };
        Self { rows: [[strip; PANEL_STRIPS]; PANEL_ROWS], strips: 0 }
    }
}
