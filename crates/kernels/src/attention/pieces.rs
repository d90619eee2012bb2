//! The division of attention into pieces of work.

use std::ops::Range;

use super::{Attention, Look};

/// Tokens of a sequence and query heads that are computed together, because they share a head of keys and values.
pub(super) struct Piece {
    pub(super) tokens: Range<usize>,
    pub(super) head: usize,
    pub(super) queries: Range<usize>,
}

impl Piece {
    /// Index of the result of a row, among those of all tokens and heads.
    pub(super) fn row(&self, row: usize, heads: usize) -> usize {
        let per_token = self.queries.len();
        (self.tokens.start + row / per_token) * heads + self.queries.start + row % per_token
    }
}

/// The pieces of a step's tokens and heads.
pub(super) struct Cut<'a> {
    stretches: Stretches<'a>,
    /// Number of heads of keys and values.
    heads: usize,
    /// Number of query heads that share one of them.
    group: usize,
    /// Number of parts of such a group, and of query heads in a part.
    parts: usize,
    part: usize,
}

impl<'a> Cut<'a> {
    /// Pieces of at most `together` queries.
    pub(super) fn new(attention: &Attention<'_>, looks: &'a [Look], together: usize) -> Self {
        let heads = attention.keys.heads;
        let group = attention.heads / heads;
        let parts = group.div_ceil(together.min(group));
        let part = group.div_ceil(parts);
        let stretches = Stretches::new(looks, (together / part).max(1));
        Self { stretches, heads, group, parts, part }
    }

    pub(super) fn count(&self) -> usize {
        self.stretches.count() * self.heads * self.parts
    }

    /// The piece with an index; none if no query head is left for it.
    pub(super) fn piece(&self, at: usize) -> Option<Piece> {
        // All stretches of a head follow one another, so that its keys and values stay in the core's own caches.
        let (lane, token) = (at / self.stretches.count(), at % self.stretches.count());
        let (head, part) = (lane / self.parts, lane % self.parts);
        let (first, from) = (head * self.group, part * self.part);
        let queries = first + from..first + (from + self.part).min(self.group);
        let tokens = self.stretches.of(token);
        (!queries.is_empty()).then_some(Piece { tokens, head, queries })
    }
}

/// Stretches of at most `most` tokens of one sequence. Late tokens, which see most positions, come first, so that no
/// thread begins a long piece when the others finish.
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
