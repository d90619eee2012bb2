//! Layout of the factors of a tile of the AVX-512 path, in lines of 64 bytes.
//!
//! There are no gaps, although types of weights need different lines: unused lines would waste sets of the L1 cache.

use deft_formats::quant::{Blocks, STRIP};

use super::activations::TILE_TOKENS;
use super::form::Form;

/// Number of dot instructions per strip; each multiplies four values of all sixteen groups.
pub(super) const REGISTERS: usize = STRIP / 64;
/// Number of rows of a tile.
pub(super) const TILE_ROWS: usize = 4;

/// Lines of a strip of a tile's rows: for each dot instruction and row, four quants of each of sixteen groups; then scales
/// of the groups, or of their halves; then minima likewise, if the type has any.
#[derive(Debug, Clone, Copy)]
pub(super) struct RowLines(Form);

impl RowLines {
    /// The largest number of any type.
    pub(super) const MOST: usize = (REGISTERS + 2 + 2) * TILE_ROWS;

    pub(super) const fn of<B: Blocks>() -> Self {
        Self(Form::of_blocks::<B>())
    }

    pub(super) const fn quants(self, step: usize, row: usize) -> usize {
        step * TILE_ROWS + row
    }

    pub(super) const fn scales(self, half: usize, row: usize) -> usize {
        (REGISTERS + half) * TILE_ROWS + row
    }

    pub(super) const fn mins(self, half: usize, row: usize) -> usize {
        (REGISTERS + self.0.parts() + half) * TILE_ROWS + row
    }

    /// Number of lines.
    pub(super) const fn count(self) -> usize {
        self.mins(self.0.mins(), 0)
    }
}

/// Lines of a strip of a tile's tokens: quants, like those of rows; scales of the groups; the bias of integer sums, if
/// weights are stored with an offset; the factors of minima, if there are any. The last two are per group, or per half
/// of a group.
#[derive(Debug, Clone, Copy)]
pub(super) struct TokenLines(pub(super) Form);

impl TokenLines {
    /// The largest number of any type.
    pub(super) const MOST: usize = (REGISTERS + 1 + 2 + 2) * TILE_TOKENS;

    pub(super) const fn of<B: Blocks>() -> Self {
        Self(Form::of_blocks::<B>())
    }

    pub(super) const fn quants(self, step: usize, token: usize) -> usize {
        step * TILE_TOKENS + token
    }

    pub(super) const fn scales(self, token: usize) -> usize {
        REGISTERS * TILE_TOKENS + token
    }

    pub(super) const fn sum_biases(self, half: usize, token: usize) -> usize {
        (REGISTERS + 1 + half) * TILE_TOKENS + token
    }

    pub(super) const fn min_factors(self, half: usize, token: usize) -> usize {
        self.sum_biases(self.0.sum_biases() + half, token)
    }

    /// Number of lines.
    pub(super) const fn count(self) -> usize {
        self.min_factors(self.0.mins(), 0)
    }
}

#[cfg(test)]
mod tests {
    use deft_formats::quant::TensorType;

    use super::*;

    #[test]
    fn lines_have_no_gaps_and_each_has_one_use() {
        for form in TensorType::ALL.iter().copied().filter_map(Form::of) {
            let (rows, tokens) = (RowLines(form), TokenLines(form));
            let (mut of_rows, mut of_tokens) = (Vec::new(), Vec::new());
            for row in 0..TILE_ROWS {
                of_rows.extend((0..REGISTERS).map(|step| rows.quants(step, row)));
                of_rows.extend((0..form.parts()).map(|half| rows.scales(half, row)));
                of_rows.extend((0..form.mins()).map(|half| rows.mins(half, row)));
            }
            for token in 0..TILE_TOKENS {
                of_tokens.extend((0..REGISTERS).map(|step| tokens.quants(step, token)));
                of_tokens.push(tokens.scales(token));
                of_tokens.extend((0..form.sum_biases()).map(|half| tokens.sum_biases(half, token)));
                of_tokens.extend((0..form.mins()).map(|half| tokens.min_factors(half, token)));
            }
            for (mut lines, count) in [(of_rows, rows.count()), (of_tokens, tokens.count())] {
                lines.sort_unstable();
                assert!(lines.iter().copied().eq(0..count), "{form:?}: {lines:?}");
            }
            assert!(rows.count() <= RowLines::MOST && tokens.count() <= TokenLines::MOST);
        }
    }
}
