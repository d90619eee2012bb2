//! Stored matrix times activations.

use deft_formats::quant::{GROUP, Group, TensorType};
use rayon::prelude::*;

use crate::{Activations, Path, dot};

/// Below this many multiplications a product stays on the calling thread: handing out work would
/// cost more than it saves.
const SERIAL_BELOW: usize = 1 << 18;
/// Rows handed to a thread at a time, at least.
const ROWS_PER_TASK: usize = 32;

/// A stored matrix: `rows x columns`, row-major.
#[derive(Debug, Clone, Copy)]
pub struct Matrix<'a> {
    /// How it is stored.
    pub tensor_type: TensorType,
    /// Length of an output.
    pub rows: usize,
    /// Length of an input.
    pub columns: usize,
    /// `rows` rows of `tensor_type.row_bytes(columns)` bytes.
    pub bytes: &'a [u8],
}

impl Matrix<'_> {
    /// Activations in the form this type is multiplied with: as they are for float weights, in
    /// eight bits for weights in blocks.
    #[must_use]
    pub fn activations(tensor_type: TensorType, values: &[f32], width: usize) -> Activations<'_> {
        if tensor_type.is_float() {
            Activations::float(values, width)
        } else {
            Activations::eight_bit(values, width)
        }
    }

    /// One row times all tokens.
    fn row(
        &self,
        path: Path,
        row: &[u8],
        x: &Activations<'_>,
        unpacked: &mut Vec<Group>,
        results: &mut [f32],
    ) {
        let columns = self.columns;
        match x {
            Activations::Float { values, .. } => {
                let product: fn(Path, &[u8], &[f32]) -> f32 = match self.tensor_type {
                    TensorType::F32 => dot::f32_row,
                    TensorType::F16 => dot::f16_row,
                    TensorType::BF16 => dot::bf16_row,
                    other => panic!("activations were not made for {other}"),
                };
                for (result, x) in results.iter_mut().zip(values.chunks(columns)) {
                    *result = product(path, row, x);
                }
            }
            Activations::EightBit { quants, scales, sums, .. } => {
                assert!(!self.tensor_type.is_float(), "activations were not made for floats");
                let groups = columns / GROUP;
                let is_direct = self.tensor_type == TensorType::Q8_0;
                if !is_direct {
                    unpacked.resize(groups, Group::default());
                    self.tensor_type.unpack(row, unpacked);
                }
                for (token, result) in results.iter_mut().enumerate() {
                    let quants = &quants[token * columns..][..columns];
                    let scales = &scales[token * groups..][..groups];
                    let sums = &sums[token * groups * 2..][..groups * 2];
                    *result = if is_direct {
                        dot::q8_0_row(path, row, quants, scales)
                    } else {
                        dot::group_row(path, unpacked, quants, scales, sums)
                    };
                }
            }
        }
    }
}

/// `out[token][row] = matrix[row] . x[token]`; `out` is `tokens x rows`.
///
/// `scratch` is a buffer to reuse between calls. Each product is computed alone in the stated
/// order, so neither the number of tokens nor of threads changes a bit.
///
/// # Panics
/// When the lengths do not fit, or `x` was not made by [`Matrix::activations`].
pub fn multiply(
    path: Path,
    matrix: Matrix<'_>,
    x: &Activations<'_>,
    out: &mut [f32],
    scratch: &mut Vec<f32>,
) {
    let tokens = x.tokens();
    let row_bytes = matrix.tensor_type.row_bytes(matrix.columns);
    assert_eq!(matrix.bytes.len(), matrix.rows * row_bytes, "matrix and its bytes differ");
    assert_eq!(out.len(), tokens * matrix.rows, "output has the wrong length");
    // One token: rows are neighbours in the output. Several: compute row by row, then transpose.
    let target: &mut [f32] = if tokens == 1 {
        &mut *out
    } else {
        scratch.resize(tokens * matrix.rows, 0.0);
        scratch
    };
    let compute = |unpacked: &mut Vec<Group>, (row, results): (usize, &mut [f32])| {
        let stored = &matrix.bytes[row * row_bytes..][..row_bytes];
        matrix.row(path, stored, x, unpacked, results);
    };
    if tokens * matrix.rows * matrix.columns < SERIAL_BELOW {
        let mut unpacked = Vec::new();
        target.chunks_mut(tokens).enumerate().for_each(|row| compute(&mut unpacked, row));
    } else {
        let rows = target.par_chunks_mut(tokens).enumerate().with_min_len(ROWS_PER_TASK);
        rows.for_each_init(Vec::new, compute);
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
        let (rows, columns, tokens) = (300, 256, 9);
        let bytes: Vec<u8> = (0..rows * columns * 4).map(|at| (at * 7 % 61) as u8).collect();
        let x: Vec<f32> = (0..tokens * columns).map(|at| (at as f32 * 0.11).cos()).collect();
        for &tensor_type in TensorType::ALL {
            let bytes = &bytes[..rows * tensor_type.row_bytes(columns)];
            let matrix = Matrix { tensor_type, rows, columns, bytes };
            let mut together = vec![0.0; tokens * rows];
            let mut scratch = Vec::new();
            for path in Path::available() {
                let activations = Matrix::activations(tensor_type, &x, columns);
                multiply(path, matrix, &activations, &mut together, &mut scratch);
                for token in 0..tokens {
                    let mut alone = vec![0.0; rows];
                    let x = &x[token * columns..][..columns];
                    let activations = Matrix::activations(tensor_type, x, columns);
                    multiply(path, matrix, &activations, &mut alone, &mut scratch);
                    let same = alone.iter().zip(&together[token * rows..]);
                    let same = same.into_iter().all(|(a, b)| a.to_bits() == b.to_bits());
                    assert!(same, "{tensor_type}, token {token} on {path}");
                }
            }
        }
    }
}
