//! Products as work that a team shares out: one at a time, or several of the same activations at once.

use std::ops::Range;

use super::activations::{Activations, Kind};
use super::{Matrix, Stored, floats, quants, tiles};
use crate::team::Outputs;
use crate::{Instructions, Team};

/// A product, cut into pieces of which each is done by one thread.
pub(super) struct Work<'a> {
    pub(super) matrix: Matrix<Stored<'a>>,
    pub(super) x: &'a Activations,
    pub(super) out: Outputs<'a>,
    /// Tokens that pass by together; with fewer than all of them, pieces are done for one part of the tokens after
    /// the other.
    pub(super) part: usize,
    /// How the pieces are done.
    pub(super) cut: Cut,
}

/// How a product is cut.
#[derive(Clone, Copy)]
pub(super) struct Cut {
    /// Pieces.
    pub(super) count: usize,
    /// Pieces that a thread takes at a time.
    pub(super) grain: usize,
    /// Does some of them. Each is done by one thread once.
    pub(super) run: fn(&Work<'_>, Range<usize>),
}

impl<'a> Work<'a> {
    /// A product on a path, for a team of so many threads.
    pub(super) fn of(
        path: Instructions,
        threads: usize,
        matrix: Matrix<Stored<'a>>,
        x: &'a Activations,
        out: &'a mut [f32],
    ) -> Self {
        let out = Outputs::new(out, matrix.rows);
        match x.kind {
            Kind::Tiles => tiles::work(path, matrix, x, out),
            Kind::Floats => floats::work(path, threads, matrix, x, out),
            Kind::RoundedStrip(_) => quants::work(path, threads, matrix, x, out),
        }
    }

    /// The stored rows of a range.
    pub(super) fn stored(&self, rows: Range<usize>) -> &'a [u8] {
        let row_bytes = self.row_bytes();
        &self.matrix.bytes.near()[rows.start * row_bytes..rows.end * row_bytes]
    }

    pub(super) fn row_bytes(&self) -> usize {
        self.matrix.tensor_type.row_bytes(self.matrix.columns)
    }

    /// Pieces that are panels of so many rows, times parts of the tokens: the tokens and rows of each.
    pub(super) fn panels(
        &self,
        pieces: Range<usize>,
        high: usize,
    ) -> impl Iterator<Item = (Range<usize>, Range<usize>)> {
        let (rows, tokens, part) = (self.matrix.rows, self.x.tokens, self.part);
        let panels = rows.div_ceil(high);
        pieces.map(move |piece| {
            let (token, row) = (piece / panels * part, piece % panels * high);
            (token..tokens.min(token + part), row..rows.min(row + high))
        })
    }

    /// How often a thread takes a part of it.
    fn takes(&self) -> usize {
        self.cut.count.div_ceil(self.cut.grain)
    }

    fn run(&self, take: usize) {
        let Cut { count, grain, run } = self.cut;
        run(self, take * grain..count.min((take + 1) * grain));
    }
}

/// Does all pieces of some products. Whoever is done with one goes on with the next, so that a team waits for its
/// last thread once.
pub(super) fn run(team: &Team, works: &[Work<'_>]) {
    if let [work] = works {
        let Cut { count, grain, run } = work.cut;
        return team.each(count, grain, |_, pieces| run(work, pieces));
    }
    let takes: usize = works.iter().map(Work::takes).sum();
    // What is less than one thread should take at a time is not handed out.
    let is_little = works.iter().all(|work| work.cut.count * works.len() <= work.cut.grain);
    team.each(takes, if is_little { takes } else { 1 }, |_, range| {
        for take in range {
            let mut before = 0;
            for work in works {
                let own = work.takes();
                if take < before + own {
                    work.run(take - before);
                    break;
                }
                before += own;
            }
        }
    });
}
