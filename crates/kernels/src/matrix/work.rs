//! Products as work for a team: one at a time, or several with the same activations.

use std::ops::Range;

use super::activations::{Activations, Kind};
use super::{Matrix, Stored, floats, quants, tiles};
use crate::team::Outputs;
use crate::{Instructions, Team};

/// A product, divided into pieces that one thread computes each.
pub(super) struct Work<'a> {
    pub(super) matrix: Matrix<Stored<'a>>,
    pub(super) x: &'a Activations,
    pub(super) out: Outputs<'a>,
    /// Number of tokens of a part. If there are several parts, all pieces of a part come before those of the next.
    pub(super) part: usize,
    /// The computation of the pieces.
    pub(super) cut: Cut,
}

/// The pieces of a product.
#[derive(Clone, Copy)]
pub(super) struct Cut {
    /// Number of pieces.
    pub(super) count: usize,
    /// Number of pieces that a thread takes at a time.
    pub(super) grain: usize,
    /// Computes some pieces. Each piece is computed once, by one thread.
    pub(super) run: fn(&Work<'_>, Range<usize>),
}

impl<'a> Work<'a> {
    /// A product on a path, for a team of `threads` threads.
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

    /// Tokens and rows of a piece, if pieces are panels of rows times parts of the tokens.
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

    /// Number of times that a thread takes a part.
    fn takes(&self) -> usize {
        self.cut.count.div_ceil(self.cut.grain)
    }

    fn run(&self, take: usize) {
        let Cut { count, grain, run } = self.cut;
        run(self, take * grain..count.min((take + 1) * grain));
    }
}

/// Computes all pieces of several products. A thread that has finished one product continues with the next, so the team
/// waits for its last thread only once.
pub(super) fn run(team: &Team, works: &[Work<'_>]) {
    if let [work] = works {
        let Cut { count, grain, run } = work.cut;
        return team.each(count, grain, |_, pieces| run(work, pieces));
    }
    let takes: usize = works.iter().map(Work::takes).sum();
    // Work that is too small to be divided is computed by one thread.
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
