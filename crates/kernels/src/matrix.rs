//! Stored matrix times activations.

use rayon::prelude::*;

use crate::dot::{self, BLOCK, Q8_BYTES};
use crate::{Activations, Path};

/// Below this many multiplications a product stays on the calling thread: handing out work would
/// cost more than it saves.
const SERIAL_BELOW: usize = 1 << 18;
/// Rows handed to a thread at a time, at least.
const ROWS_PER_TASK: usize = 32;

/// The stored types that can be multiplied with.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum MatrixType {
    /// Single precision.
    F32,
    /// Half precision.
    F16,
    /// Blocks of 32 signed bytes with a scale.
    Q8_0,
}

impl MatrixType {
    /// Bytes of a row of `columns` values.
    #[must_use]
    pub fn row_bytes(self, columns: usize) -> usize {
        match self {
            Self::F32 => columns * 4,
            Self::F16 => columns * 2,
            Self::Q8_0 => columns / BLOCK * Q8_BYTES,
        }
    }

    /// Activations in the form this type is multiplied with.
    #[must_use]
    pub fn activations(self, values: &[f32], width: usize) -> Activations<'_> {
        match self {
            Self::F32 | Self::F16 => Activations::float(values, width),
            Self::Q8_0 => Activations::eight_bit(values, width),
        }
    }
}

/// A stored matrix: `rows x columns`, row-major.
#[derive(Debug, Clone, Copy)]
pub struct Matrix<'a> {
    /// How it is stored.
    pub matrix_type: MatrixType,
    /// Length of an output.
    pub rows: usize,
    /// Length of an input.
    pub columns: usize,
    /// `rows` rows of `matrix_type.row_bytes(columns)` bytes.
    pub bytes: &'a [u8],
}

impl Matrix<'_> {
    fn dot(&self, path: Path, row: &[u8], x: &Activations<'_>, token: usize) -> f32 {
        let columns = self.columns;
        match (self.matrix_type, x) {
            (MatrixType::F32, Activations::Float { values, .. }) => {
                dot::f32_row(path, row, &values[token * columns..][..columns])
            }
            (MatrixType::F16, Activations::Float { values, .. }) => {
                dot::f16_row(path, row, &values[token * columns..][..columns])
            }
            (MatrixType::Q8_0, Activations::EightBit { quants, scales, .. }) => {
                let blocks = columns / BLOCK;
                let quants = &quants[token * columns..][..columns];
                dot::q8_0_row(path, row, quants, &scales[token * blocks..][..blocks])
            }
            (stored, _) => panic!("activations were not made for {stored:?}"),
        }
    }
}

/// `out[token][row] = matrix[row] . x[token]`; `out` is `tokens x rows`.
///
/// `scratch` is a buffer to reuse between calls. Each product is computed alone in the stated
/// order, so neither the number of tokens nor of threads changes a bit.
///
/// # Panics
/// When the lengths do not fit, or `x` was not made by [`MatrixType::activations`].
pub fn multiply(
    path: Path,
    matrix: Matrix<'_>,
    x: &Activations<'_>,
    out: &mut [f32],
    scratch: &mut Vec<f32>,
) {
    let tokens = x.tokens();
    let row_bytes = matrix.matrix_type.row_bytes(matrix.columns);
    assert_eq!(matrix.bytes.len(), matrix.rows * row_bytes, "matrix and its bytes differ");
    assert_eq!(out.len(), tokens * matrix.rows, "output has the wrong length");
    // One token: rows are neighbours in the output. Several: compute row by row, then transpose.
    let target: &mut [f32] = if tokens == 1 {
        &mut *out
    } else {
        scratch.resize(tokens * matrix.rows, 0.0);
        scratch
    };
    let compute = |(row, results): (usize, &mut [f32])| {
        let stored = &matrix.bytes[row * row_bytes..][..row_bytes];
        for (token, result) in results.iter_mut().enumerate() {
            *result = matrix.dot(path, stored, x, token);
        }
    };
    if tokens * matrix.rows * matrix.columns < SERIAL_BELOW {
        target.chunks_mut(tokens).enumerate().for_each(compute);
    } else {
        target.par_chunks_mut(tokens).enumerate().with_min_len(ROWS_PER_TASK).for_each(compute);
    }
    if tokens > 1 {
        for (token, results) in out.chunks_mut(matrix.rows).enumerate() {
            for (row, result) in results.iter_mut().enumerate() {
                *result = scratch[row * tokens + token];
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn several_tokens_equal_each_token_alone() {
        let (rows, columns, tokens) = (300, 64, 17);
        let weights: Vec<u8> =
            (0..rows * columns).flat_map(|at| ((at as f32 * 0.37).sin()).to_le_bytes()).collect();
        let x: Vec<f32> = (0..tokens * columns).map(|at| (at as f32 * 0.11).cos()).collect();
        let matrix = Matrix { matrix_type: MatrixType::F32, rows, columns, bytes: &weights };
        let mut together = vec![0.0; tokens * rows];
        let mut scratch = Vec::new();
        for path in Path::available() {
            let activations = Activations::float(&x, columns);
            multiply(path, matrix, &activations, &mut together, &mut scratch);
            for token in 0..tokens {
                let mut alone = vec![0.0; rows];
                let activations = Activations::float(&x[token * columns..][..columns], columns);
                multiply(path, matrix, &activations, &mut alone, &mut scratch);
                assert_eq!(alone, together[token * rows..][..rows], "token {token} on {path}");
            }
        }
    }
}
