//! Attention over cached keys and values.
//!
//! **Order of computation.** A score is the sum of query x key over the values of the key, from first to last, by fused
//! multiply-add. Softmax is computed page by page (Milakov and Gimelshein 2018, "Online normalizer calculation for
//! softmax"): the largest score so far is subtracted from the scores of a page, the earlier sums are scaled down if it
//! has grown, and the weighted values of the page's positions are added one after the other. Spans of 1,024 positions
//! are summed separately and combined in their order ([`spans`]). Paths of the class [`Class::Bf16`] sum scores and
//! weighted values in [`tiles`].
//!
//! So a result depends only on the query and on the positions that it sees. It does not depend on the chunks of a
//! prompt, on the pages of the cache, or on other calls.

#[cfg(target_arch = "x86_64")]
mod avx2;
#[cfg(target_arch = "x86_64")]
mod avx512;
mod page;
mod pieces;
mod plain;
mod spans;
mod tiles;

use std::cell::RefCell;
use std::ops::Range;

use deft_formats::quant::TensorType;

pub use page::{Cached, Kind, PAGE};
pub use spans::{SPAN, SpanSums};

use crate::sixteen::{REGISTER, Sixteen};
use crate::team::DisjointRows;
use crate::{Class, Instructions, Team};
use pieces::{Cut, Piece};
use spans::{NOTHING, State};
use tiles::{SQUARE, Squares};

/// Most queries that are computed together on a page.
const TOGETHER: usize = 32;
/// The same with tiles. It is larger because converting a page takes longer than multiplying it.
const TOGETHER_IN_TILES: usize = 2 * SQUARE;
/// Most queries that read half floats as they are stored. For more queries it is faster to widen a page first.
const FEW: usize = 8;
/// Number of multiplications below which one thread computes alone.
const LEAST_PRODUCTS: usize = 1 << 16;

/// The positions that one token sees.
#[derive(Debug, Clone, Copy)]
pub struct Look {
    /// Index of its sequence.
    pub sequence: usize,
    /// First position.
    pub first: usize,
    /// Last position, plus one.
    pub end: usize,
}

/// Caches and sizes of an attention.
#[derive(Debug, Clone, Copy)]
pub struct Attention<'a> {
    /// Cached keys.
    pub keys: Cached<'a>,
    /// Cached values.
    pub values: Cached<'a>,
    /// Page numbers of each sequence.
    pub pages: &'a [&'a [u32]],
    /// Number of query heads.
    pub heads: usize,
    /// Factor of the scores.
    pub scale: f32,
    /// Scores are softly limited to plus and minus this.
    pub cap: Option<f32>,
}

/// Working space of a thread.
#[derive(Default)]
struct Space {
    /// `queries x key length`.
    queries: Aligned,
    /// Keys of a page, `key length x positions`.
    keys: Aligned,
    /// Values of a page, `positions x value length`, rows padded to whole registers.
    values: Aligned,
    /// `queries x positions`.
    scores: Aligned,
    /// Weighted sums of values, `queries x value length`, padded likewise.
    sums: Aligned,
    /// For each query, the positions of a page that it sees, as bits.
    seen: Vec<u32>,
    /// For each query, the largest score so far.
    largest: Vec<f32>,
    /// For each query, the sum of weights so far.
    weights: Vec<f32>,
    /// Weighted sums of the earlier spans.
    before: Aligned,
    /// Largest scores and sums of weights of the earlier spans.
    state: Vec<State>,
    /// Factors of the products in tiles.
    squares: Squares,
}

/// Floats that begin at a cache line, so that no register is loaded from two lines.
#[derive(Default)]
struct Aligned(Vec<Sixteen>);

impl Aligned {
    /// Makes room for at least `count` floats.
    fn hold(&mut self, count: usize) {
        self.0.resize(count.div_ceil(REGISTER), Sixteen::default());
    }

    fn all(&mut self) -> &mut [f32] {
        bytemuck::cast_slice_mut(&mut self.0)
    }

    /// Rows with a float for each position of a page.
    fn rows(&mut self) -> &mut [[f32; PAGE]] {
        bytemuck::cast_slice_mut(&mut self.0)
    }
}

thread_local! {
    static SPACE: RefCell<Space> = RefCell::default();
}

/// A value length, padded to whole registers.
fn filled(length: usize) -> usize {
    length.next_multiple_of(16)
}

/// `out = softmax(cap(scale * keys . query)) . values` for each token and query head.
///
/// `queries` is `tokens x heads x key length`, `out` is `tokens x heads x value length`; groups of query heads share a
/// head of keys and values. Source: Vaswani et al. 2017; Ainslie et al. 2023, "GQA". Each thread allocates its working
/// space once. If there are fewer pieces of work than threads, the threads divide the spans of a sequence among them, as
/// far as `aside` has room for the sums.
///
/// # Panics
/// If a page is missing or lengths do not match.
pub fn attend(
    path: Instructions,
    team: &Team,
    attention: &Attention<'_>,
    looks: &[Look],
    queries: &[f32],
    out: &mut [f32],
    aside: &mut SpanSums,
) {
    let Attention { keys, values, heads, .. } = *attention;
    assert!(path.runs_here(), "this processor has no {path}");
    assert_eq!(queries.len(), looks.len() * heads * keys.length, "queries have the wrong length");
    assert_eq!(out.len(), looks.len() * heads * values.length, "output has the wrong length");
    let seen: usize = looks.iter().map(|look| look.end - look.first).sum();
    let is_small = seen * heads * keys.length < LEAST_PRODUCTS;
    let work = Attending { path, attention, looks, queries };
    let most = if work.in_tiles() { TOGETHER_IN_TILES } else { TOGETHER };
    let spans = looks.iter().map(|look| look.end).max().unwrap_or(0).div_ceil(SPAN);
    if spans > 1 {
        let cut = Cut::new(attention, looks, most);
        // Fewer pieces than threads: divide the spans too.
        if cut.count() < team.threads()
            && let Some(aside) = aside.of(looks.len() * heads, spans, values.length)
        {
            return work.by_spans(team, &cut, spans, aside, out);
        }
    }
    // Smaller pieces, if otherwise some threads would be idle.
    let share = (looks.len() * heads).div_ceil(team.threads());
    let together = if is_small { most } else { share.clamp(1, most) };
    let cut = Cut::new(attention, looks, together);
    let places = DisjointRows::new(out, values.length);
    team.each(cut.count(), if is_small { cut.count() } else { 1 }, |_, pieces| {
        SPACE.with_borrow_mut(|space| {
            for piece in pieces.filter_map(|at| cut.piece(at)) {
                space.attend(&work, &piece, &places);
            }
        });
    });
}

/// The inputs of an attention, and the path that computes it.
struct Attending<'a> {
    path: Instructions,
    attention: &'a Attention<'a>,
    looks: &'a [Look],
    queries: &'a [f32],
}

impl Attending<'_> {
    /// Whether scores and weighted values are summed in tiles.
    fn in_tiles(&self) -> bool {
        self.path.class() == Class::Bf16
    }

    /// Number of floats in a row of sums: the value length, padded.
    fn width(&self) -> usize {
        let width = filled(self.attention.values.length);
        if self.in_tiles() { width.next_multiple_of(SQUARE) } else { width }
    }

    /// Whether half floats are read as they are stored, for this number of rows.
    fn reads_halves(&self, rows: &Range<usize>) -> bool {
        match self.path {
            Instructions::Amx => true,
            Instructions::Avx512 => rows.len() <= FEW,
            _ => false,
        }
    }

    /// Number of rows to make room for: `count`, padded.
    fn rows(&self, count: usize) -> usize {
        if self.in_tiles() { count.next_multiple_of(SQUARE) } else { count }
    }

    /// Computes all spans on all threads, then combines the spans of each row.
    fn by_spans(
        &self,
        team: &Team,
        cut: &Cut<'_>,
        spans: usize,
        aside: &mut [f32],
        out: &mut [f32],
    ) {
        let Attention { values, heads, .. } = *self.attention;
        let stride = spans::stride(values.length);
        let places = DisjointRows::new(aside, stride);
        team.each(cut.count() * spans, 1, |_, pieces| {
            SPACE.with_borrow_mut(|space| {
                for at in pieces {
                    let Some(piece) = cut.piece(at / spans) else { continue };
                    space.take_queries(self, &piece);
                    space.sum_span(self, &piece, at % spans);
                    for (row, (sums, state)) in space.summed(self).enumerate() {
                        let row = piece.row(row, heads) * spans + at % spans;
                        // SAFETY: a span of a token's head belongs to one piece, which one thread computes.
                        spans::put(unsafe { places.take(row) }, sums, state);
                    }
                }
            });
        });
        team.rows(out, values.length, 1, |row, out| {
            let mut state = NOTHING;
            for span in aside[row * spans * stride..].chunks_exact(stride).take(spans) {
                let (sums, own) = spans::get(span);
                spans::join(self.path, out, &mut state, sums, own);
            }
            finish(out, state);
        });
    }
}

/// Divides weighted sums by the sum of weights. Negative zero becomes positive, because its sign can come from positions
/// that only other queries see.
fn finish(sums: &mut [f32], [_, weight]: State) {
    let inverse = 1.0 / weight;
    sums.iter_mut().for_each(|sum| *sum = *sum * inverse + 0.0);
}

impl Space {
    /// Computes a piece, from the first span to the last.
    fn attend(&mut self, work: &Attending<'_>, piece: &Piece, out: &DisjointRows<'_, f32>) {
        let Attention { values, heads, .. } = *work.attention;
        let (rows, width) = (self.take_queries(work, piece), work.width());
        let looks = &work.looks[piece.tokens.clone()];
        let first = looks.iter().map(|look| look.first).min().unwrap_or(0);
        let end = looks.iter().map(|look| look.end).max().unwrap_or(0);
        self.before.hold(rows * width);
        self.state.clear();
        self.state.resize(rows, NOTHING);
        for span in first / SPAN..end.div_ceil(SPAN) {
            self.sum_span(work, piece, span);
            let own = self.sums.all().chunks_exact(width);
            let own = own.zip(self.largest.iter().zip(&self.weights));
            let before = self.before.all().chunks_exact_mut(width).zip(&mut self.state);
            for ((sums, state), (own, (largest, weight))) in before.zip(own) {
                spans::join(work.path, sums, state, own, [*largest, *weight]);
            }
        }
        let before = self.before.all().chunks_exact(width).zip(&self.state);
        for (row, (sums, state)) in before.enumerate() {
            // SAFETY: a token's head belongs to one piece, which one thread computes.
            let out = unsafe { out.take(piece.row(row, heads)) };
            out.copy_from_slice(&sums[..values.length]);
            finish(out, *state);
        }
    }

    /// Copies the queries of a piece, and makes room for its results. Returns the number of queries.
    fn take_queries(&mut self, work: &Attending<'_>, piece: &Piece) -> usize {
        let Attention { keys, heads, .. } = *work.attention;
        let rows = piece.tokens.len() * piece.queries.len();
        self.queries.hold(rows * keys.length);
        let own = self.queries.all().chunks_exact_mut(piece.queries.len() * keys.length);
        for (token, own) in piece.tokens.clone().zip(own) {
            let from = (token * heads + piece.queries.start) * keys.length;
            own.copy_from_slice(&work.queries[from..][..own.len()]);
        }
        if work.in_tiles() {
            let queries = &self.queries.all()[..rows * keys.length];
            self.squares.take_queries(work.path, queries, keys.length);
        }
        let (width, room) = (work.width(), work.rows(rows));
        self.keys.hold(keys.length * PAGE);
        self.values.hold(width * PAGE);
        self.scores.hold(room * PAGE);
        self.sums.hold(room * width);
        self.seen.resize(rows, 0);
        rows
    }

    /// Computes the weighted sums of a piece over one span.
    fn sum_span(&mut self, work: &Attending<'_>, piece: &Piece, span: usize) {
        let rows = piece.tokens.len() * piece.queries.len();
        self.sums.all().fill(0.0);
        self.largest.clear();
        self.largest.resize(rows, f32::NEG_INFINITY);
        self.weights.clear();
        self.weights.resize(rows, 0.0);
        let Attending { attention, looks, .. } = *work;
        let looks = &looks[piece.tokens.clone()];
        let first = looks.iter().map(|look| look.first).min().unwrap_or(0).max(span * SPAN);
        let end = looks.iter().map(|look| look.end).max().unwrap_or(0).min((span + 1) * SPAN);
        let pages = looks.first().map_or(&[][..], |look| attention.pages[look.sequence]);
        for (at, &page) in pages.iter().enumerate().take(end.div_ceil(PAGE)).skip(first / PAGE) {
            let next = pages.get(at + 1).filter(|_| (at + 1) * PAGE < end).copied();
            self.look_at(work, looks, (at, page, next), piece);
        }
    }

    /// Weighted sums and state of each row.
    fn summed(&mut self, work: &Attending<'_>) -> impl Iterator<Item = (&[f32], State)> {
        let width = work.width();
        let state = self.largest.iter().zip(&self.weights);
        let sums = self.sums.all().chunks_exact(width);
        sums.zip(state).map(|(sums, (largest, weight))| (sums, [*largest, *weight]))
    }

    /// Adds one page for all tokens that see a part of it, and prefetches the next page. `at` is the index of the page
    /// in its sequence, `page` its number in the cache.
    fn look_at(
        &mut self,
        work: &Attending<'_>,
        looks: &[Look],
        (at, page, next): (usize, u32, Option<u32>),
        piece: &Piece,
    ) {
        let Attention { scale, cap, .. } = *work.attention;
        let positions = at * PAGE..(at + 1) * PAGE;
        let sees = |look: &Look| look.first < positions.end && look.end > positions.start;
        let Some(from) = looks.iter().position(sees) else { return };
        let to = looks.iter().rposition(sees).map_or(from, |last| last + 1);
        let end = looks[from..to].iter().map(|look| look.end).max().unwrap_or(0);
        let (width, per_token) = (work.width(), piece.queries.len());
        let seen = Seen {
            page,
            next,
            head: piece.head,
            // Positions that no token sees may never have been written.
            used: (end - positions.start).min(PAGE),
            rows: from * per_token..to * per_token,
        };
        self.scores(work, &seen);
        let rows = seen.rows.clone();
        let by_token = self.seen[rows.clone()].chunks_mut(per_token);
        for (look, seen) in looks[from..to].iter().zip(by_token) {
            seen.fill(seen_of(look, positions.start));
        }
        let softmax = plain::Softmax {
            scores: &mut self.scores.rows()[rows.clone()],
            seen: &self.seen[rows.clone()],
            largest: &mut self.largest[rows.clone()],
            weights: &mut self.weights[rows.clone()],
            sums: &mut self.sums.all()[rows.start * width..rows.end * width],
        };
        plain::soften(work.path.vectors(), softmax, width, scale, cap.unwrap_or(0.0));
        self.gather(work, &seen);
    }

    /// Computes the scores of the rows that see a part of the page.
    fn scores(&mut self, work: &Attending<'_>, seen: &Seen) {
        let Seen { page, next, head, used: _, ref rows } = *seen;
        let (keys, path) = (work.attention.keys, work.path.vectors());
        let own = &mut self.keys.all()[..keys.length * PAGE];
        let stored = keys.keys(path, page, head, work.reads_halves(rows), own);
        let next = next.map_or(&[][..], |next| keys.page(next, head));
        let scores = self.scores.rows();
        if work.in_tiles() {
            return self.squares.scores(work.path, stored, keys.length, rows, scores, next);
        }
        let queries = &self.queries.all()[rows.start * keys.length..rows.end * keys.length];
        plain::scores(path, queries, stored, keys.length, &mut scores[rows.clone()], next);
    }

    /// Adds the weighted values of the page to the sums of the rows that see a part of it.
    fn gather(&mut self, work: &Attending<'_>, seen: &Seen) {
        let Seen { page, next, head, used, ref rows } = *seen;
        let (values, path, width) = (work.attention.values, work.path.vectors(), work.width());
        let own = self.values.all();
        let stored = values.values(path, page, head, used, work.reads_halves(rows), own);
        let next = next.map_or(&[][..], |next| values.page(next, head));
        let (weights, sums) = (self.scores.rows(), self.sums.all());
        if work.in_tiles() {
            let lengths = (filled(values.length), used);
            let squares = &mut self.squares;
            return squares.gather(work.path, weights, rows, stored, lengths, width, sums, next);
        }
        let sums = &mut sums[rows.start * width..rows.end * width];
        plain::gather(path, &weights[rows.clone()], stored, width, used, sums, next);
    }
}

/// A page, and the rows that see it.
struct Seen {
    page: u32,
    /// The next page of the sequence.
    next: Option<u32>,
    head: usize,
    /// Number of positions from the first one to the last that any row sees.
    used: usize,
    /// Rows that see a part of it.
    rows: Range<usize>,
}

/// The positions of a page that a token sees, as bits.
fn seen_of(look: &Look, start: usize) -> u32 {
    let first = look.first.saturating_sub(start).min(PAGE);
    let end = look.end.saturating_sub(start).min(PAGE);
    if first >= end { 0 } else { u32::MAX >> (PAGE - (end - first)) << first }
}

/// Checks that a cache can be stored in this type: floats, half floats or eight bits.
///
/// # Panics
/// If it is another type.
pub(crate) fn check(tensor_type: TensorType) {
    assert!(
        matches!(tensor_type, TensorType::F32 | TensorType::F16 | TensorType::Q8_0),
        "caches are not stored as {tensor_type}"
    );
}

#[cfg(test)]
mod tests;
