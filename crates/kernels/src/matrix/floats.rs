//! Products of rows of floats.

use deft_formats::quant::TensorType;

use super::activations::Activations;
#[cfg(target_arch = "x86_64")]
use super::activations::FLOAT_TOKENS;
use super::{Matrix, scalar};
#[cfg(target_arch = "x86_64")]
use super::{avx2, avx512, avx512::FLOAT_ROWS};
use crate::team::Outputs;
use crate::{Path, Team};

/// Multiplications that a thread takes at a time, at least.
const LEAST_PRODUCTS: usize = 1 << 15;

/// Two rows of floats, in the order of `F32` rows.
///
/// # Panics
/// When they differ in length.
#[must_use]
pub fn dot(path: Path, row: &[f32], x: &[f32]) -> f32 {
    const { assert!(cfg!(target_endian = "little"), "rows are stored little-endian") };
    one_row(path, TensorType::F32, bytemuck::cast_slice(row), x)
}

pub(super) fn multiply(
    path: Path,
    team: &Team,
    matrix: Matrix<'_>,
    x: &Activations,
    out: &Outputs<'_>,
) {
    #[cfg(target_arch = "x86_64")]
    if path == Path::Avx512 {
        return match matrix.tensor_type {
            TensorType::F32 => tiles_of::<avx512::Single>(team, &matrix, x, out),
            TensorType::F16 => tiles_of::<avx512::Half>(team, &matrix, x, out),
            _ => tiles_of::<avx512::Brain>(team, &matrix, x, out),
        };
    }
    let grain = LEAST_PRODUCTS.div_ceil((matrix.columns * x.tokens).max(1));
    team.each(matrix.rows, grain, |_, rows| {
        for row in rows {
            for (token, x) in x.floats().chunks(matrix.columns).enumerate() {
                // SAFETY: rows are given to one thread once.
                let result = unsafe { out.stretch(token, row..row + 1) };
                result[0] = one_row(path, matrix.tensor_type, matrix.row(row), x);
            }
        }
    });
}

/// Some rows at a time times all tokens.
#[cfg(target_arch = "x86_64")]
fn tiles_of<F: avx512::Floats>(
    team: &Team,
    matrix: &Matrix<'_>,
    x: &Activations,
    out: &Outputs<'_>,
) {
    let row_bytes = matrix.columns * F::BYTES;
    let part = x.tokens_together(team.threads(), FLOAT_TOKENS);
    let (panels, parts) = (matrix.rows.div_ceil(FLOAT_ROWS), x.tokens.div_ceil(part.max(1)));
    let grain = LEAST_PRODUCTS.div_ceil((matrix.columns * part * FLOAT_ROWS).max(1));
    team.each(panels * parts, grain, |_, pieces| {
        for piece in pieces {
            let (token, row) = (piece / panels * part, piece % panels * FLOAT_ROWS);
            let tokens = token..x.tokens.min(token + part);
            let rows = row..matrix.rows.min(row + FLOAT_ROWS);
            let stored = &matrix.bytes[rows.start * row_bytes..rows.end * row_bytes];
            // SAFETY: rows of some tokens are given to one thread once; the path was found on this processor,
            // and as many rows and tokens are there as results.
            unsafe {
                let results = out.results(tokens, rows);
                avx512::multiply_floats::<F>(stored, x.float_tiles(token), &results);
            }
        }
    });
}

/// A row of floats times a token.
fn one_row(path: Path, tensor_type: TensorType, row: &[u8], x: &[f32]) -> f32 {
    assert_eq!(row.len(), tensor_type.row_bytes(x.len()), "row and activations differ in length");
    match (path, tensor_type) {
        // SAFETY: the path was found on this processor (its instructions include the other's); the
        // lengths were asserted.
        #[cfg(target_arch = "x86_64")]
        (Path::Avx512 | Path::Avx2, TensorType::F32) => unsafe { avx2::f32_row(row, x) },
        // SAFETY: as above.
        #[cfg(target_arch = "x86_64")]
        (Path::Avx512 | Path::Avx2, TensorType::F16) => unsafe { avx2::f16_row(row, x) },
        // SAFETY: as above.
        #[cfg(target_arch = "x86_64")]
        (Path::Avx512 | Path::Avx2, _) => unsafe { avx2::bf16_row(row, x) },
        (_, TensorType::F32) => scalar::f32_row(row, x),
        (_, TensorType::F16) => scalar::f16_row(row, x),
        (_, _) => scalar::bf16_row(row, x),
    }
}
