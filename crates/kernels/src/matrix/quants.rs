//! Products of weights in blocks with activations in eight bits.

use std::cell::RefCell;
use std::ops::Range;

use deft_formats::quant::{Blocks, STRIP, Strip, TensorType, unpack};
use deft_formats::with_blocks;

use super::activations::{Activations, RoundedStrip, TILE_TOKENS};
#[cfg(target_arch = "x86_64")]
use super::lines::{RowLines, TILE_ROWS, TokenLines};
#[cfg(target_arch = "x86_64")]
use super::panel::{Next, Panel, Shape};
use super::work::{Cut, Work};
use super::{Matrix, Stored, scalar, tree};
#[cfg(target_arch = "x86_64")]
use super::{avx2, avx512};
use crate::Instructions;
use crate::sixteen::Sixteen;
use crate::team::Outputs;
#[cfg(target_arch = "x86_64")]
use crate::team::Results;

/// Least bytes of weights that a thread takes at a time; with less, dividing the work costs more than it saves.
const LEAST_BYTES: usize = 16 << 10;
/// Number of multiplications below which one thread computes a product of several tokens alone.
const LEAST_PRODUCTS: usize = 1 << 18;

/// Working space of a thread.
#[derive(Default)]
struct Space {
    strip: Strip,
    #[cfg(target_arch = "x86_64")]
    panel: Panel,
    #[cfg(target_arch = "x86_64")]
    room: avx512::Room,
    #[cfg(target_arch = "x86_64")]
    narrow: avx2::Panel,
    /// Partial sums, `tokens x rows of a panel`.
    sums: Vec<Sixteen>,
}

thread_local! {
    static SPACE: RefCell<Box<Space>> = RefCell::default();
}

pub(super) fn work<'a>(
    path: Instructions,
    threads: usize,
    matrix: Matrix<Stored<'a>>,
    x: &'a Activations,
    out: Outputs<'a>,
) -> Work<'a> {
    let kind = matrix.tensor_type;
    let products = |tokens: usize, rows: usize| {
        LEAST_PRODUCTS.div_ceil((tokens * matrix.columns * rows).max(1))
    };
    let (part, cut) = if x.tokens == 1 {
        let grain = LEAST_BYTES.div_ceil(kind.row_bytes(matrix.columns).max(1));
        (1, Cut { count: matrix.rows, grain, run: one_token(path, kind) })
    } else {
        match path {
            #[cfg(target_arch = "x86_64")]
            Instructions::Avx512 => {
                let part = x.tokens_together(threads, TILE_TOKENS);
                let rows = Shape::of(matrix.columns.div_ceil(STRIP), part).rows;
                let count = matrix.rows.div_ceil(rows) * x.tokens.div_ceil(part.max(1));
                let run = with_blocks!(kind, B => panels::<B> as Run);
                (part, Cut { count, grain: products(part, rows), run })
            }
            #[cfg(target_arch = "x86_64")]
            Instructions::AvxVnni | Instructions::Avx2 => {
                let count = matrix.rows.div_ceil(avx2::ROWS);
                let run = with_blocks!(kind, B => if path == Instructions::Avx2 {
                    narrow_panels::<B, avx2::Pairs> as Run
                } else {
                    narrow_panels::<B, avx2::Fours> as Run
                });
                (x.tokens, Cut { count, grain: products(x.tokens, avx2::ROWS), run })
            }
            _ => {
                let run = with_blocks!(kind, B => rows_of::<B> as Run);
                (x.tokens, Cut { count: matrix.rows, grain: products(x.tokens, 1), run })
            }
        }
    };
    Work { matrix, x, out, part, cut }
}

/// Computes some pieces of a product.
type Run = fn(&Work<'_>, Range<usize>);

/// Multiplies panels of rows by all tokens, on the paths without 512-bit registers.
#[cfg(target_arch = "x86_64")]
fn narrow_panels<B: avx2::Narrow, D: avx2::Dots>(work: &Work<'_>, pieces: Range<usize>) {
    let row_bytes = work.row_bytes();
    SPACE.with_borrow_mut(|space| {
        let Space { strip, narrow, sums, .. } = &mut **space;
        for (tokens, rows) in work.panels(pieces, avx2::ROWS) {
            let stored = work.stored(rows.clone());
            // SAFETY: rows are given to one thread once; the path was found on this processor.
            unsafe {
                let results = work.out.results(tokens, rows);
                let space = (&mut *strip, &mut *narrow, &mut *sums);
                avx2::panel::<B, D>(stored, row_bytes, work.x.strips(), space, &results);
            }
        }
    });
}

/// Multiplies panels of rows by all tokens, or by parts of them: with many tokens, each thread has its own part, which
/// stays in its core's caches.
#[cfg(target_arch = "x86_64")]
fn panels<B: avx512::Wide>(work: &Work<'_>, pieces: Range<usize>) {
    let stride = work.matrix.columns.div_ceil(STRIP);
    let lines = const { TokenLines::of::<B>().count() };
    let shape = Shape::of(stride, work.part);
    let own = Rows { stored: work.matrix.bytes.near(), row_bytes: work.row_bytes(), shape };
    SPACE.with_borrow_mut(|space| {
        for (tokens, rows) in work.panels(pieces, shape.rows) {
            let x = &work.x.tiles()[tokens.start / TILE_TOKENS * stride * lines..];
            // SAFETY: rows of some tokens are given to one thread once.
            let results = unsafe { work.out.results(tokens, rows.clone()) };
            own.panel::<B>(rows, x, space, &results);
        }
    });
}

/// Multiplies some rows by one token.
fn one_token(path: Instructions, tensor_type: TensorType) -> Run {
    with_blocks!(tensor_type, B => match path {
        // SAFETY: the path was found on this processor; nothing else is demanded.
        #[cfg(target_arch = "x86_64")]
        Instructions::Avx512 => |work, rows| with_token(work, rows, |rows, bytes, x, out| unsafe {
            avx512::rows::<B>(rows, bytes, x, out);
        }),
        // SAFETY: as above.
        #[cfg(target_arch = "x86_64")]
        Instructions::AvxVnni => |work, rows| with_token(work, rows, |rows, bytes, x, out| unsafe {
            avx2::rows::<B, avx2::Fours>(rows, bytes, x, out);
        }),
        // SAFETY: as above.
        #[cfg(target_arch = "x86_64")]
        Instructions::Avx2 => |work, rows| with_token(work, rows, |rows, bytes, x, out| unsafe {
            avx2::rows::<B, avx2::Pairs>(rows, bytes, x, out);
        }),
        _ => |work, rows| with_token(work, rows, scalar::rows::<B>),
    })
}

/// Multiplies rows of `row_bytes` bytes by the only token.
fn with_token(
    work: &Work<'_>,
    rows: Range<usize>,
    multiply: impl Fn(&[u8], usize, &[RoundedStrip], &mut [f32]),
) {
    let stored = work.stored(rows.clone());
    // SAFETY: each row is given to one thread once.
    let out = unsafe { work.out.stretch(0, rows) };
    multiply(stored, work.row_bytes(), work.x.of(0), out);
}

/// Multiplies some rows by all tokens, in plain Rust: each strip is unpacked once.
fn rows_of<B: Blocks>(work: &Work<'_>, rows: Range<usize>) {
    let (bytes, x) = (STRIP / B::VALUES * B::BYTES, work.x);
    SPACE.with_borrow_mut(|space| {
        for row in rows {
            space.sums.clear();
            space.sums.resize(x.tokens, Sixteen::default());
            for (at, blocks) in work.matrix.row(row).chunks(bytes).enumerate() {
                unpack::<B>(blocks, &mut space.strip);
                for (token, sums) in space.sums.iter_mut().enumerate() {
                    scalar::strip::<B>(&space.strip, &x.of(token)[at], &mut sums.0);
                }
            }
            for (token, sums) in space.sums.iter().enumerate() {
                // SAFETY: rows are given to one thread once.
                let result = unsafe { work.out.stretch(token, row..row + 1) };
                result[0] = tree(&sums.0);
            }
        }
    });
}

/// The rows of a matrix, by panels. Divisions are done once, here, because a panel of few tokens takes less than a
/// microsecond.
#[cfg(target_arch = "x86_64")]
struct Rows<'a> {
    stored: &'a [u8],
    row_bytes: usize,
    shape: Shape,
}

#[cfg(target_arch = "x86_64")]
impl Rows<'_> {
    /// Multiplies some rows by some tokens, of which the first begins a tile. Strips are unpacked once, and multiplied
    /// while they are in the L1 cache.
    fn panel<B: avx512::Wide>(
        &self,
        rows: Range<usize>,
        x: &[Sixteen],
        space: &mut Space,
        out: &Results<'_>,
    ) {
        let Self { row_bytes, shape, .. } = *self;
        let Space { room, panel, sums, .. } = space;
        let bytes = STRIP / B::VALUES * B::BYTES;
        let lines = const { RowLines::of::<B>().count() };
        if shape.blocks > 1 {
            // Former values are not read.
            sums.resize(out.tokens() * shape.rows, Sixteen::default());
        }
        let stored = &self.stored[rows.start * row_bytes..rows.end * row_bytes];
        let after = &self.stored[rows.end * row_bytes..];
        let mut next = Next::of(&after[..stored.len().min(after.len())], shape, out.tokens());
        for block in 0..shape.blocks {
            let first = block * shape.strips;
            panel.strips = shape.strips.min(shape.stride - first);
            for at in 0..rows.len() {
                let row = &self.stored[(rows.start + at) * row_bytes..];
                let tiles = panel.lines[at / TILE_ROWS * panel.strips * lines..]
                    .chunks_exact_mut(lines)
                    .take(panel.strips);
                for (strip, tile) in (first..).zip(tiles) {
                    let from = strip * bytes;
                    let (stored, own) = (&row[from..], bytes.min(row_bytes - from));
                    // SAFETY: the path was found on this processor; nothing else is demanded.
                    unsafe {
                        avx512::pack::<B>(stored, own, next.distance, room, tile, at % TILE_ROWS);
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
