//! Products of rows in blocks with activations in eight bits.

use std::cell::RefCell;
use std::ops::Range;

use deft_formats::quant::{Blocks, STRIP, Strip, TensorType, unpack};
use deft_formats::with_blocks;

use super::activations::{Activations, Eighths, TILE_TOKENS};
#[cfg(target_arch = "x86_64")]
use super::lines::{RowLines, TILE_ROWS, TokenLines};
#[cfg(target_arch = "x86_64")]
use super::panel::{Next, Panel, Shape};
use super::{Matrix, scalar, tree};
#[cfg(target_arch = "x86_64")]
use super::{avx2, avx512};
use crate::sixteen::Sixteen;
use crate::team::Outputs;
#[cfg(target_arch = "x86_64")]
use crate::team::Results;
use crate::{Path, Team};

/// Bytes of weights that a thread takes at a time, at least: below, handing out work costs more than it
/// saves.
const LEAST_BYTES: usize = 16 << 10;
/// Multiplications below which a product of several tokens stays on one thread.
const LEAST_PRODUCTS: usize = 1 << 18;

/// Working space of a thread.
#[derive(Default)]
struct Space {
    strip: Strip,
    #[cfg(target_arch = "x86_64")]
    panel: Panel,
    #[cfg(target_arch = "x86_64")]
    narrow: avx2::Panel,
    /// Partial sums, `tokens x rows of a panel`.
    sums: Vec<Sixteen>,
}

thread_local! {
    static SPACE: RefCell<Box<Space>> = RefCell::default();
}

pub(super) fn multiply(
    path: Path,
    team: &Team,
    matrix: Matrix<'_>,
    x: &Activations,
    out: &Outputs<'_>,
) {
    if x.tokens == 1 {
        let row_bytes = matrix.tensor_type.row_bytes(matrix.columns);
        let grain = LEAST_BYTES.div_ceil(row_bytes.max(1));
        let x = x.of(0);
        let multiply = rows_function(path, matrix.tensor_type);
        team.each(matrix.rows, grain, |_, rows| {
            let stored = &matrix.bytes[rows.start * row_bytes..rows.end * row_bytes];
            // SAFETY: rows are given to one thread once.
            multiply(stored, row_bytes, x, unsafe { out.stretch(0, rows) });
        });
        return;
    }
    #[cfg(target_arch = "x86_64")]
    if path == Path::Avx512 {
        return with_blocks!(matrix.tensor_type, B => panels_of::<B>(team, &matrix, x, out));
    }
    #[cfg(target_arch = "x86_64")]
    if path == Path::AvxVnni {
        return with_blocks!(matrix.tensor_type, B => {
            narrow_panels_of::<B, avx2::Fours>(team, &matrix, x, out)
        });
    }
    #[cfg(target_arch = "x86_64")]
    if path == Path::Avx2 {
        return with_blocks!(matrix.tensor_type, B => {
            narrow_panels_of::<B, avx2::Pairs>(team, &matrix, x, out)
        });
    }
    let grain = LEAST_PRODUCTS.div_ceil((x.tokens * matrix.columns).max(1));
    with_blocks!(matrix.tensor_type, B => {
        team.each(matrix.rows, grain, |_, rows| {
            SPACE.with_borrow_mut(|space| rows_of::<B>(&matrix, rows, x, space, out));
        });
    });
}

/// Panels of rows times all tokens, without the widest path's registers.
#[cfg(target_arch = "x86_64")]
fn narrow_panels_of<B: avx2::Narrow, D: avx2::Dots>(
    team: &Team,
    matrix: &Matrix<'_>,
    x: &Activations,
    out: &Outputs<'_>,
) {
    let row_bytes = matrix.tensor_type.row_bytes(matrix.columns);
    let grain = LEAST_PRODUCTS.div_ceil((x.tokens * matrix.columns * avx2::ROWS).max(1));
    team.each(matrix.rows.div_ceil(avx2::ROWS), grain, |_, panels| {
        SPACE.with_borrow_mut(|space| {
            let Space { strip, narrow, sums, .. } = &mut **space;
            for panel in panels {
                let rows = panel * avx2::ROWS..matrix.rows.min((panel + 1) * avx2::ROWS);
                let stored = &matrix.bytes[rows.start * row_bytes..rows.end * row_bytes];
                // SAFETY: rows are given to one thread once; the path was found on this processor.
                unsafe {
                    let results = out.results(0..x.tokens, rows);
                    let space = (&mut *strip, &mut *narrow, &mut *sums);
                    avx2::panel::<B, D>(stored, row_bytes, x.strips(), space, &results);
                }
            }
        });
    });
}

/// Panels of rows times all tokens, or parts of them: where there are many, threads have tokens of their own,
/// which stay in their own caches.
#[cfg(target_arch = "x86_64")]
fn panels_of<B: avx512::Wide>(
    team: &Team,
    matrix: &Matrix<'_>,
    x: &Activations,
    out: &Outputs<'_>,
) {
    let stride = matrix.columns.div_ceil(STRIP);
    let lines = const { TokenLines::of::<B>().count() };
    let part = x.tokens_together(team.threads(), TILE_TOKENS);
    let parts = x.tokens.div_ceil(part);
    let row_bytes = matrix.tensor_type.row_bytes(matrix.columns);
    let (shape, stored) = (Shape::of(stride, part), matrix.bytes);
    let rows = Rows { stored, row_bytes, shape };
    let panels = matrix.rows.div_ceil(shape.rows);
    let grain = LEAST_PRODUCTS.div_ceil((part * matrix.columns * shape.rows).max(1));
    team.each(panels * parts, grain, |_, pieces| {
        SPACE.with_borrow_mut(|space| {
            for piece in pieces {
                let (first, from) = (piece / panels * part, piece % panels * shape.rows);
                let tokens = first..x.tokens.min(first + part);
                let own = from..matrix.rows.min(from + shape.rows);
                let x = &x.tiles()[first / TILE_TOKENS * stride * lines..];
                // SAFETY: rows of some tokens are given to one thread once.
                let results = unsafe { out.results(tokens, own.clone()) };
                rows.panel::<B>(own, x, space, &results);
            }
        });
    });
}

/// Multiplies rows of so many bytes with one token.
type RowsFunction = fn(&[u8], usize, &[Eighths], &mut [f32]);

fn rows_function(path: Path, tensor_type: TensorType) -> RowsFunction {
    with_blocks!(tensor_type, B => match path {
        // SAFETY: the path was found on this processor; nothing else is demanded.
        #[cfg(target_arch = "x86_64")]
        Path::Avx512 => |rows, bytes, x, out| unsafe { avx512::rows::<B>(rows, bytes, x, out) },
        // SAFETY: as above.
        #[cfg(target_arch = "x86_64")]
        Path::AvxVnni => |rows, bytes, x, out| unsafe {
            avx2::rows::<B, avx2::Fours>(rows, bytes, x, out);
        },
        // SAFETY: as above.
        #[cfg(target_arch = "x86_64")]
        Path::Avx2 => |rows, bytes, x, out| unsafe {
            avx2::rows::<B, avx2::Pairs>(rows, bytes, x, out);
        },
        _ => scalar::rows::<B>,
    })
}

/// Some rows times all tokens, as is specified: each strip is taken apart once.
fn rows_of<B: Blocks>(
    matrix: &Matrix<'_>,
    rows: Range<usize>,
    x: &Activations,
    space: &mut Space,
    out: &Outputs<'_>,
) {
    let bytes = STRIP / B::VALUES * B::BYTES;
    for row in rows {
        space.sums.clear();
        space.sums.resize(x.tokens, Sixteen::default());
        for (at, blocks) in matrix.row(row).chunks(bytes).enumerate() {
            unpack::<B>(blocks, &mut space.strip);
            for (token, sums) in space.sums.iter_mut().enumerate() {
                scalar::strip::<B>(&space.strip, &x.of(token)[at], &mut sums.0);
            }
        }
        for (token, sums) in space.sums.iter().enumerate() {
            // SAFETY: rows are given to one thread once.
            let result = unsafe { out.stretch(token, row..row + 1) };
            result[0] = tree(&sums.0);
        }
    }
}

/// The rows of a matrix, by panels. What takes a division is known here once: a panel of a few tokens is
/// done in less than a microsecond.
#[cfg(target_arch = "x86_64")]
struct Rows<'a> {
    stored: &'a [u8],
    row_bytes: usize,
    shape: Shape,
}

#[cfg(target_arch = "x86_64")]
impl Rows<'_> {
    /// Some rows times some tokens, the first of which begins a tile: strips are taken apart once and
    /// multiplied while they are in a near cache.
    fn panel<B: avx512::Wide>(
        &self,
        rows: Range<usize>,
        x: &[Sixteen],
        space: &mut Space,
        out: &Results<'_>,
    ) {
        let Self { row_bytes, shape, .. } = *self;
        let Space { strip, panel, sums, .. } = space;
        let bytes = STRIP / B::VALUES * B::BYTES;
        let lines = const { RowLines::of::<B>().count() };
        if shape.blocks > 1 {
            // What was there before is not read.
            sums.resize(out.tokens() * shape.rows, Sixteen::default());
        }
        let stored = &self.stored[rows.start * row_bytes..rows.end * row_bytes];
        let after = &self.stored[rows.end * row_bytes..];
        let mut next = Next::of(&after[..stored.len().min(after.len())], shape, out.tokens());
        for block in 0..shape.blocks {
            let first = block * shape.strips;
            panel.strips = shape.strips.min(shape.stride - first);
            for at in 0..rows.len() {
                let row = &stored[at * row_bytes..][..row_bytes];
                let tiles = panel.lines[at / TILE_ROWS * panel.strips * lines..]
                    .chunks_exact_mut(lines)
                    .take(panel.strips);
                for (blocks, tile) in row[first * bytes..].chunks(bytes).zip(tiles) {
                    // SAFETY: the path was found on this processor; nothing else is demanded.
                    unsafe {
                        avx512::pack::<B>(blocks, next.distance, strip, tile, at % TILE_ROWS);
                    }
                }
            }
            let (stride, ahead) = (shape.stride, &mut next.ahead);
            let mut block = avx512::Block { panel, x, stride, first, sums, out, ahead };
            // SAFETY: as above; activations have `stride` strips for each three tokens, and sums are as
            // many as there are of whole tiles.
            unsafe { avx512::multiply::<B>(&mut block) };
        }
    }
}
