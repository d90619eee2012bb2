//! Attention over cached keys and values.
//!
//! **The order.** A score is a running sum over the values of a key, from the first to the last, each by
//! one fused multiply-add. Softmax goes from page to page (Milakov and Gimelshein 2018, "Online normalizer
//! calculation for softmax"): the largest score so far is taken from the scores of a page; what was summed
//! before is made smaller accordingly; then the weighted values of the page's positions are added one after
//! the other, fused. Spans of 1,024 positions are summed apart and put together in their order ([`spans`]). So a result depends on the query and on what it sees only: neither on how a prompt was
//! cut into steps, nor on which pages hold it, nor on what else is computed with it.

#[cfg(target_arch = "x86_64")]
mod avx2;
#[cfg(target_arch = "x86_64")]
mod avx512;
mod page;
mod plain;
mod spans;

use std::cell::RefCell;
use std::ops::Range;

use deft_formats::quant::TensorType;

pub use page::{Cached, Kind, PAGE};
pub use spans::{SPAN, SpanSums};

use crate::sixteen::{REGISTER, Sixteen};
use crate::team::Places;
use crate::{Path, Team};
use spans::{NOTHING, State};

/// Queries that look at a page together, at most.
const TOGETHER: usize = 32;
/// So many queries look at half floats as they are stored; for more it pays to widen them first.
const FEW: usize = 8;
/// Multiplications below which attention stays on one thread.
const LEAST_PRODUCTS: usize = 1 << 16;

/// What one token looks at.
#[derive(Debug, Clone, Copy)]
pub struct Look {
    /// Its sequence, by number.
    pub sequence: usize,
    /// The first position it sees.
    pub first: usize,
    /// One past the last position it sees.
    pub end: usize,
}

/// How attention is computed.
#[derive(Debug, Clone, Copy)]
pub struct Attention<'a> {
    /// Cached keys.
    pub keys: Cached<'a>,
    /// Cached values.
    pub values: Cached<'a>,
    /// The pages of each sequence.
    pub pages: &'a [&'a [u32]],
    /// Heads of queries.
    pub heads: usize,
    /// Factor on scores.
    pub scale: f32,
    /// Scores are squeezed between plus and minus this.
    pub cap: Option<f32>,
}

/// Working space of a thread.
#[derive(Default)]
struct Space {
    /// `queries x key length`.
    queries: Aligned,
    /// A page's keys, `key length x positions`.
    keys: Aligned,
    /// A page's values, `positions x value length`, rows filled up to whole registers.
    values: Aligned,
    /// `queries x positions`.
    scores: Aligned,
    /// Weighted sums of values, `queries x value length`, filled up likewise.
    sums: Aligned,
    /// For each query the positions of a page that it sees, a bit each.
    seen: Vec<u32>,
    /// For each query the largest score so far.
    largest: Vec<f32>,
    /// For each query the sum of weights so far.
    weights: Vec<f32>,
    /// Weighted sums of the spans before.
    before: Aligned,
    /// Largest scores and sums of weights of the spans before.
    state: Vec<State>,
}

/// Aligned that begin where a line of the caches does, so that no register comes from two of them.
#[derive(Default)]
struct Aligned(Vec<Sixteen>);

impl Aligned {
    /// Room for so many at least; what is there stays.
    fn hold(&mut self, count: usize) {
        self.0.resize(count.div_ceil(REGISTER), Sixteen::default());
    }

    fn all(&mut self) -> &mut [f32] {
        bytemuck::cast_slice_mut(&mut self.0)
    }

    /// Rows of a page's positions.
    fn rows(&mut self) -> &mut [[f32; PAGE]] {
        bytemuck::cast_slice_mut(&mut self.0)
    }
}

thread_local! {
    static SPACE: RefCell<Space> = RefCell::default();
}

/// A value length filled up to whole registers.
fn filled(length: usize) -> usize {
    length.next_multiple_of(16)
}

/// Tokens and query heads that are computed together: they share a head of keys and values, and a
/// sequence.
struct Piece {
    tokens: Range<usize>,
    head: usize,
    queries: Range<usize>,
}

/// `out = softmax(cap(scale * keys . query)) . values` for each token and query head.
///
/// `queries` is `tokens x heads x key length`, `out` is `tokens x heads x value length`; query heads share
/// heads of keys and values in groups. Source: Vaswani et al. 2017; Ainslie et al. 2023, "GQA". Takes no
/// memory once each thread has done this. With few tokens, threads share out the spans of a sequence as far as
/// `aside` has room for their sums.
///
/// # Panics
/// When a page is missing or lengths do not fit.
pub fn attend(
    path: Path,
    team: &Team,
    attention: &Attention<'_>,
    looks: &[Look],
    queries: &[f32],
    out: &mut [f32],
    aside: &mut SpanSums,
) {
    let Attention { keys, values, heads, .. } = *attention;
    assert!(path.runs_here(), "this processor has no {path}");
    let path = path.vectors();
    assert_eq!(queries.len(), looks.len() * heads * keys.length, "queries have the wrong length");
    assert_eq!(out.len(), looks.len() * heads * values.length, "output has the wrong length");
    let seen: usize = looks.iter().map(|look| look.end - look.first).sum();
    let is_small = seen * heads * keys.length < LEAST_PRODUCTS;
    let work = Attending { path, attention, looks, queries };
    let spans = looks.iter().map(|look| look.end).max().unwrap_or(0).div_ceil(SPAN);
    if spans > 1 {
        let cut = Cut::new(attention, looks, TOGETHER);
        // Where there are fewer pieces than threads.
        if cut.count() < team.threads()
            && let Some(aside) = aside.of(looks.len() * heads, spans, values.length)
        {
            return work.by_spans(team, &cut, spans, aside, out);
        }
    }
    // Fewer queries together where else some threads would have nothing to do.
    let share = (looks.len() * heads).div_ceil(team.threads());
    let together = if is_small { TOGETHER } else { share.clamp(1, TOGETHER) };
    let cut = Cut::new(attention, looks, together);
    let places = Places::new(out, values.length);
    team.each(cut.count(), if is_small { cut.count() } else { 1 }, |_, pieces| {
        SPACE.with_borrow_mut(|space| {
            for piece in pieces.filter_map(|at| cut.piece(at)) {
                space.attend(&work, &piece, &places);
            }
        });
    });
}

/// What attention is computed of.
struct Attending<'a> {
    path: Path,
    attention: &'a Attention<'a>,
    looks: &'a [Look],
    queries: &'a [f32],
}

impl Attending<'_> {
    /// Threads compute spans, and then put them together.
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
        let places = Places::new(aside, stride);
        team.each(cut.count() * spans, 1, |_, pieces| {
            SPACE.with_borrow_mut(|space| {
                for at in pieces {
                    let Some(piece) = cut.piece(at / spans) else { continue };
                    space.take_queries(self, &piece);
                    space.sum_span(self, &piece, at % spans);
                    for (row, (sums, state)) in space.summed(self).enumerate() {
                        let row = piece.row(row, heads) * spans + at % spans;
                        // SAFETY: a span of a token's head belongs to one piece, and a piece is done by one thread.
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

/// Sums of weighted values become their mean.
fn finish(sums: &mut [f32], [_, weight]: State) {
    let inverse = 1.0 / weight;
    sums.iter_mut().for_each(|sum| *sum *= inverse);
}

/// How the tokens and heads of a step are cut into pieces.
struct Cut<'a> {
    stretches: Stretches<'a>,
    /// Heads of keys and values.
    heads: usize,
    /// Query heads that share one of them.
    group: usize,
    /// Parts of a group, and query heads of each.
    parts: usize,
    part: usize,
}

impl<'a> Cut<'a> {
    /// Into pieces of at most so many queries.
    fn new(attention: &Attention<'_>, looks: &'a [Look], together: usize) -> Self {
        let heads = attention.keys.heads;
        let group = attention.heads / heads;
        let parts = group.div_ceil(together.min(group));
        let part = group.div_ceil(parts);
        let stretches = Stretches::new(looks, (together / part).max(1));
        Self { stretches, heads, group, parts, part }
    }

    fn count(&self) -> usize {
        self.stretches.count() * self.heads * self.parts
    }

    /// One of them; none where no query head is left for it.
    fn piece(&self, at: usize) -> Option<Piece> {
        // All stretches pass by a head: its keys and values stay in the thread's own caches.
        let (lane, token) = (at / self.stretches.count(), at % self.stretches.count());
        let (head, part) = (lane / self.parts, lane % self.parts);
        let (first, from) = (head * self.group, part * self.part);
        let queries = first + from..first + (from + self.part).min(self.group);
        let tokens = self.stretches.of(token);
        (!queries.is_empty()).then_some(Piece { tokens, head, queries })
    }
}

/// Tokens cut into stretches of one sequence and of at most so many. Late tokens, which see most, come
/// first, so that no thread begins a long piece when the others end.
struct Stretches<'a> {
    looks: &'a [Look],
    most: usize,
    count: usize,
}

impl<'a> Stretches<'a> {
    fn new(looks: &'a [Look], most: usize) -> Self {
        let mut found = Self { looks, most, count: 0 };
        found.count = found.each().count();
        found
    }

    fn each(&self) -> impl Iterator<Item = Range<usize>> {
        let mut end = self.looks.len();
        std::iter::from_fn(move || {
            let last = self.looks[..end].last()?;
            let least = end.saturating_sub(self.most);
            let same = |look: &&Look| look.sequence == last.sequence;
            let count = self.looks[least..end].iter().rev().take_while(same).count();
            end -= count;
            Some(end..end + count)
        })
    }

    fn count(&self) -> usize {
        self.count
    }

    fn of(&self, at: usize) -> Range<usize> {
        self.each().nth(at).unwrap_or_default()
    }
}

impl Piece {
    /// Where the result of one of its rows belongs, among those of all tokens and so many heads.
    fn row(&self, row: usize, heads: usize) -> usize {
        let per_token = self.queries.len();
        (self.tokens.start + row / per_token) * heads + self.queries.start + row % per_token
    }
}

impl Space {
    /// A piece from the first span to the last.
    fn attend(&mut self, work: &Attending<'_>, piece: &Piece, out: &Places<'_, f32>) {
        let Attention { values, heads, .. } = *work.attention;
        let (rows, width) = (self.take_queries(work, piece), filled(values.length));
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
            // SAFETY: a token's head belongs to one piece, and a piece is done by one thread.
            let out = unsafe { out.take(piece.row(row, heads)) };
            out.copy_from_slice(&sums[..values.length]);
            finish(out, *state);
        }
    }

    /// Takes a piece's queries, and makes room for what is computed with them; returns how many there are.
    fn take_queries(&mut self, work: &Attending<'_>, piece: &Piece) -> usize {
        let Attention { keys, values, heads, .. } = *work.attention;
        let rows = piece.tokens.len() * piece.queries.len();
        self.queries.hold(rows * keys.length);
        let own = self.queries.all().chunks_exact_mut(piece.queries.len() * keys.length);
        for (token, own) in piece.tokens.clone().zip(own) {
            let from = (token * heads + piece.queries.start) * keys.length;
            own.copy_from_slice(&work.queries[from..][..own.len()]);
        }
        let width = filled(values.length);
        self.keys.hold(keys.length * PAGE);
        self.values.hold(width * PAGE);
        self.scores.hold(rows * PAGE);
        self.sums.hold(rows * width);
        self.seen.resize(rows, 0);
        rows
    }

    /// Sums what a piece's queries see of one span.
    fn sum_span(&mut self, work: &Attending<'_>, piece: &Piece, span: usize) {
        let rows = piece.tokens.len() * piece.queries.len();
        self.sums.all().fill(0.0);
        self.largest.clear();
        self.largest.resize(rows, f32::NEG_INFINITY);
        self.weights.clear();
        self.weights.resize(rows, 0.0);
        let Attending { path, attention, looks, .. } = *work;
        let looks = &looks[piece.tokens.clone()];
        let first = looks.iter().map(|look| look.first).min().unwrap_or(0).max(span * SPAN);
        let end = looks.iter().map(|look| look.end).max().unwrap_or(0).min((span + 1) * SPAN);
        let pages = looks.first().map_or(&[][..], |look| attention.pages[look.sequence]);
        for (at, &page) in pages.iter().enumerate().take(end.div_ceil(PAGE)).skip(first / PAGE) {
            let next = pages.get(at + 1).filter(|_| (at + 1) * PAGE < end).copied();
            self.look_at(path, attention, looks, (at, page, next), piece);
        }
    }

    /// Sums and state of each row.
    fn summed(&mut self, work: &Attending<'_>) -> impl Iterator<Item = (&[f32], State)> {
        let width = filled(work.attention.values.length);
        let state = self.largest.iter().zip(&self.weights);
        let sums = self.sums.all().chunks_exact(width);
        sums.zip(state).map(|(sums, (largest, weight))| (sums, [*largest, *weight]))
    }

    /// One page, by its place in the sequence and among all pages, for all tokens that see some of it; the
    /// page after it is asked for meanwhile.
    fn look_at(
        &mut self,
        path: Path,
        attention: &Attention<'_>,
        looks: &[Look],
        (at, page, next): (usize, u32, Option<u32>),
        piece: &Piece,
    ) {
        let Attention { keys, values, scale, cap, .. } = *attention;
        let positions = at * PAGE..(at + 1) * PAGE;
        let sees = |look: &Look| look.first < positions.end && look.end > positions.start;
        let Some(from) = looks.iter().position(sees) else { return };
        let to = looks.iter().rposition(sees).map_or(from, |last| last + 1);
        let end = looks[from..to].iter().map(|look| look.end).max().unwrap_or(0);
        // What nobody sees was perhaps never written.
        let used = (end - positions.start).min(PAGE);
        let (width, per_token) = (filled(values.length), piece.queries.len());
        let rows = from * per_token..to * per_token;
        let few = rows.len() <= FEW;
        let queries = &self.queries.all()[rows.start * keys.length..rows.end * keys.length];
        let scores = &mut self.scores.rows()[rows.clone()];
        let own_keys = &mut self.keys.all()[..keys.length * PAGE];
        let stored_keys = keys.keys(path, page, piece.head, few, own_keys);
        let next_keys = next.map_or(&[][..], |next| keys.page(next, piece.head));
        plain::scores(path, queries, stored_keys, keys.length, scores, next_keys);
        let seen = self.seen[rows.clone()].chunks_mut(per_token);
        for (look, seen) in looks[from..to].iter().zip(seen) {
            seen.fill(seen_of(look, positions.start));
        }
        let sums = &mut self.sums.all()[rows.start * width..rows.end * width];
        let softmax = plain::Softmax {
            scores,
            seen: &self.seen[rows.clone()],
            largest: &mut self.largest[rows.clone()],
            weights: &mut self.weights[rows.clone()],
            sums,
        };
        plain::soften(path, softmax, width, scale, cap.unwrap_or(0.0));
        let (scores, own_values) = (&self.scores.rows()[rows.clone()], self.values.all());
        let stored_values = values.values(path, page, piece.head, used, few, own_values);
        let next_values = next.map_or(&[][..], |next| values.page(next, piece.head));
        plain::gather(path, scores, stored_values, width, used, sums, next_values);
    }
}

/// The positions of a page that a token sees, a bit each.
fn seen_of(look: &Look, start: usize) -> u32 {
    let first = look.first.saturating_sub(start).min(PAGE);
    let end = look.end.saturating_sub(start).min(PAGE);
    if first >= end { 0 } else { u32::MAX >> (PAGE - (end - first)) << first }
}

/// Caches are stored as floats, as half floats or in eight bits.
///
/// # Panics
/// For any other type.
pub(crate) fn check(tensor_type: TensorType) {
    assert!(
        matches!(tensor_type, TensorType::F32 | TensorType::F16 | TensorType::Q8_0),
        "caches are not stored as {tensor_type}"
    );
}

#[cfg(test)]
mod tests;
