//! Spans of positions that are summed apart, and how they are put together.
//!
//! Positions are cut into spans of [`SPAN`], counted from the sequence's beginning. Of each, weights and weighted
//! values are summed as if nothing stood before; then spans are put together, first to last. So several threads can look at
//! one sequence, and a result does not depend on how many do.

use super::page::PAGE;
use crate::on_every_path;
use crate::sixteen::REGISTER;

/// Positions of a span.
pub const SPAN: usize = 32 * PAGE;
/// Rows of queries whose spans are kept apart, at most: more keep all threads busy without.
const MOST_ROWS: usize = 256;

/// Of a row, the largest score and the sum of weights.
pub(super) type State = [f32; 2];

/// Nothing was seen.
pub(super) const NOTHING: State = [f32::NEG_INFINITY, 0.0];

/// Room for the sums of spans that several threads look at.
#[derive(Debug, Default)]
pub struct SpanSums(Vec<f32>);

impl SpanSums {
    /// Room for so many rows of queries (tokens times heads) over so many positions, with values of a length. Where
    /// positions are one span, or rows are many, there is nothing to keep apart.
    #[must_use]
    pub fn with_room(rows: usize, positions: usize, value_length: usize) -> Self {
        let spans = positions.div_ceil(SPAN);
        let rows = if spans > 1 { rows.min(MOST_ROWS) } else { 0 };
        Self(vec![0.0; rows * spans * stride(value_length)])
    }

    /// Room for the spans of so many rows, one after the other; none where it was not taken.
    pub(super) fn of(
        &mut self,
        rows: usize,
        spans: usize,
        value_length: usize,
    ) -> Option<&mut [f32]> {
        self.0.get_mut(..rows * spans * stride(value_length))
    }
}

/// Floats of a row's span: its sums, then its state.
pub(super) fn stride(value_length: usize) -> usize {
    super::filled(value_length) + REGISTER
}

/// Writes a row's span.
pub(super) fn put(place: &mut [f32], sums: &[f32], state: State) {
    let (own, own_state) = place.split_at_mut(place.len() - REGISTER);
    // Tiles leave room beyond.
    own.copy_from_slice(&sums[..own.len()]);
    own_state[..2].copy_from_slice(&state);
}

/// The sums and the state of a row's span.
pub(super) fn get(place: &[f32]) -> (&[f32], State) {
    let (sums, state) = place.split_at(place.len() - REGISTER);
    (sums, [state[0], state[1]])
}

on_every_path! {
    /// Adds a span to what was summed of those before it. A span of which nothing is seen changes nothing, and the first of
    /// which something is seen is taken as it is. Otherwise both are made smaller by what their largest scores are less than
    /// the larger of them, and the later one is added, fused.
    pub(super) fn join(
        sums: &mut [f32],
        state: &mut State,
        own_sums: &[f32],
        own: State,
    ) = join_plain;
}

#[inline(always)]
fn join_plain(sums: &mut [f32], state: &mut State, own_sums: &[f32], own: State) {
    if own[1] == 0.0 {
        return;
    }
    let count = sums.len();
    if state[1] == 0.0 {
        sums.copy_from_slice(&own_sums[..count]);
        *state = own;
        return;
    }
    let largest = if own[0] > state[0] { own[0] } else { state[0] };
    let (before, now) =
        (crate::curve::exp(state[0] - largest), crate::curve::exp(own[0] - largest));
    for (sum, own) in sums.iter_mut().zip(own_sums) {
        *sum = own.mul_add(now, *sum * before);
    }
    *state = [largest, own[1].mul_add(now, state[1] * before)];
}
