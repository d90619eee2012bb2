//! Answers that choose their next tokens side by side: each has its own random numbers, and what it says is told in
//! the order of lanes.

use deft_protocol::engine::FromEngine;

use super::{Part, PerLane};
use crate::lane::{Answering, CallError, Job, Lane, Outcome};
use crate::model::Words;

/// Logits that a thread looks at, at least: for fewer, handing out costs more than it saves.
const LEAST_LOGITS: usize = 32_768;

/// A row of logits: its number among those that were computed, its part of the step, and the position that it
/// belongs to.
pub(super) type Row = (usize, usize, usize);

/// An answer with its rows of logits.
pub(super) struct Turn<'a> {
    /// Of the step.
    pub(super) part: usize,
    pub(super) outcome: Result<Outcome, CallError>,
    /// What it says.
    pub(super) out: Vec<FromEngine>,
    answer: &'a mut Answering,
    rows: &'a [Row],
}

/// Lanes that a thread takes at a time.
pub(super) fn grain(vocabulary: usize) -> usize {
    LEAST_LOGITS.div_ceil(vocabulary.max(1))
}

/// The answers that rows belong to; rows and parts are in the order of lanes. Those that ended before are left out.
pub(super) fn turns<'a>(
    lanes: &'a mut [Lane],
    parts: &[Part],
    rows: &'a [Row],
    outcomes: &[Result<Outcome, CallError>],
) -> PerLane<Turn<'a>> {
    let mut lanes = lanes.iter_mut().enumerate();
    let own = rows.chunk_by(|a, b| a.1 == b.1);
    let turns = own.filter_map(|rows| {
        let part = rows[0].1;
        let (_, lane) = lanes.find(|(at, _)| *at == parts[part].lane)?;
        match (&mut lane.job, &outcomes[part]) {
            (Job::Answer(answer), Ok(Outcome::GoesOn)) => {
                let outcome = Ok(Outcome::GoesOn);
                Some(Turn { part, outcome, out: Vec::new(), answer, rows })
            }
            _ => None,
        }
    });
    turns.collect()
}

impl Turn<'_> {
    /// Takes its rows of logits, `rows x vocabulary`, of which the first has a number.
    pub(super) fn take(&mut self, words: &Words, logits: &[f32], vocabulary: usize, first: usize) {
        for (row, _, position) in self.rows {
            if matches!(self.outcome, Ok(Outcome::GoesOn)) {
                let logits = &logits[(row - first) * vocabulary..][..vocabulary];
                self.outcome = self.answer.take(words, *position, logits, &mut self.out);
            }
        }
    }
}
