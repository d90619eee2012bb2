//! Spans of positions, which are summed separately and then combined.
//!
//! Positions are divided into spans of [`SPAN`], counted from the sequence's beginning. Weights and weighted values of
//! each span are summed separately, and spans are combined from first to last. So several threads can compute one
//! sequence, and the result does not depend on their number.

use super::page::PAGE;
use crate::on_every_path;
use crate::sixteen::REGISTER;

/// Number of positions of a span.
pub const SPAN: usize = 32 * PAGE;
/// Most rows of queries whose spans are computed separately; more rows keep all threads busy anyway.
const MOST_ROWS: usize = 256;

/// Largest score and sum of weights of a row.
pub(super) type State = [f32; 2];

/// State before any position.
pub(super) const NOTHING: State = [f32::NEG_INFINITY, 0.0];

/// Memory for the sums of spans that several threads compute.
#[derive(Debug, Default)]
pub struct SpanSums(Vec<f32>);

impl SpanSums {
    /// Room for `rows` rows of queries (tokens times heads) over `positions` positions. With only one span, or with many
    /// rows, no room is needed.
    #[must_use]
    pub fn with_room(rows: usize, positions: usize, value_length: usize) -> Self {
        let spans = positions.div_ceil(SPAN);
        let rows = if spans > 1 { rows.min(MOST_ROWS) } else { 0 };
        Self(vec![0.0; rows * spans * stride(value_length)])
    }

    /// Room for the spans of `rows` rows; none if there is too little.
    pub(super) fn of(
        &mut self,
        rows: usize,
        spans: usize,
        value_length: usize,
    ) -> Option<&mut [f32]> {
        self.0.get_mut(..rows * spans * stride(value_length))
    }
}

/// Number of floats of a row's span: its sums, then its state.
pub(super) fn stride(value_length: usize) -> usize {
    super::filled(value_length) + REGISTER
}

/// Writes a row's span.
pub(super) fn put(place: &mut [f32], sums: &[f32], state: State) {
    let (own, own_state) = place.split_at_mut(place.len() - REGISTER);
    // Sums in tiles are padded.
    own.copy_from_slice(&sums[..own.len()]);
    own_state[..2].copy_from_slice(&state);
}

/// Reads sums and state of a row's span.
pub(super) fn get(place: &[f32]) -> (&[f32], State) {
    let (sums, state) = place.split_at(place.len() - REGISTER);
    (sums, [state[0], state[1]])
}

on_every_path! {
    /// Adds a span to the sums of the earlier ones. A span without visible positions changes nothing; the first span with
    /// one is copied. Otherwise both sums are scaled down to the larger of the two largest scores, and the later one is
    /// added, fused.
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
