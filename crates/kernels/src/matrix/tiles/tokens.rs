//! Conversion of activations to tiles.
//!
//! Tokens are in groups of sixteen; the last group may have fewer. The tile of a group for 32 columns has, for each two
//! columns, the two values of each token. It takes as many lines as the group has tokens.

#[cfg(target_arch = "x86_64")]
use crate::matrix::avx512;
use crate::sixteen::Sixteen;
use crate::team::DisjointRows;
use crate::tiles::{SIDE, TERMS as COLUMNS, brain};
use crate::{Instructions, Team, on_every_path};

/// Number of lines of `tokens` tokens with `columns` columns.
pub(in crate::matrix) fn lines_of(tokens: usize, columns: usize) -> usize {
    tokens * columns.div_ceil(COLUMNS)
}

/// Rounds values (`tokens x columns`) into lines, whose number is that of [`lines_of`].
pub(in crate::matrix) fn round(
    path: Instructions,
    team: &Team,
    values: &[f32],
    columns: usize,
    lines: &mut [Sixteen],
) {
    let (tokens, across) = (values.len() / columns, columns.div_ceil(COLUMNS));
    let whole = tokens / SIDE;
    let (groups, rest) = lines.split_at_mut(whole * SIDE * across);
    let places = DisjointRows::new(groups, SIDE * across);
    team.each(whole, 1, |_, groups| {
        for group in groups {
            let values = &values[group * SIDE * columns..][..SIDE * columns];
            // SAFETY: each group is given to one thread once.
            round_group(path, values, columns, unsafe { places.take(group) });
        }
    });
    if !rest.is_empty() {
        round_group(path, &values[whole * SIDE * columns..], columns, rest);
    }
}

fn round_group(path: Instructions, values: &[f32], columns: usize, lines: &mut [Sixteen]) {
    #[cfg(target_arch = "x86_64")]
    if path == Instructions::Amx {
        // SAFETY: the path was detected on this processor.
        return unsafe { avx512::round_group(values, columns, lines) };
    }
    round_plainly(path, values, columns, lines);
}

on_every_path! {
    fn round_plainly(values: &[f32], columns: usize, lines: &mut [Sixteen]) = round_group_plain;
}

#[inline(always)]
fn round_group_plain(values: &[f32], columns: usize, lines: &mut [Sixteen]) {
    let tokens = values.len() / columns;
    for (tile, lines) in lines.chunks_exact_mut(tokens).enumerate() {
        let pairs: &mut [[u16; 2]] = bytemuck::cast_slice_mut(lines);
        pairs.fill([0; 2]);
        let from = tile * COLUMNS;
        let own = COLUMNS.min(columns - from);
        for (token, values) in values.chunks_exact(columns).enumerate() {
            for (at, value) in values[from..from + own].iter().enumerate() {
                pairs[at / 2 * tokens + token][at % 2] = brain(*value);
            }
        }
    }
}
