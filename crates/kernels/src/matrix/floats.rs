//! Products of rows of floats.

use deft_formats::quant::TensorType;

use super::activations::Activations;
use super::{Matrix, scalar, tree};
#[cfg(target_arch = "x86_64")]
use super::{avx2, avx512};
use crate::team::Outputs;
use crate::{Path, Team};

/// Rows that are multiplied at once, so that a token's values are loaded once for all.
const ROWS: usize = 8;
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
    let grain = LEAST_PRODUCTS.div_ceil((matrix.columns * x.tokens).max(1)).next_multiple_of(ROWS);
    team.each(matrix.rows, grain, |_, rows| {
        for from in rows.clone().step_by(ROWS) {
            let rows = from..rows.end.min(from + ROWS);
            for (token, x) in x.floats.chunks(matrix.columns).enumerate() {
                // SAFETY: rows are given to one thread once.
                let results = unsafe { out.stretch(token, rows.clone()) };
                if rows.len() == ROWS && path == Path::Avx512 {
                    let rows = std::array::from_fn(|at| matrix.row(from + at));
                    results.copy_from_slice(&several(matrix.tensor_type, rows, x));
                } else {
                    for (result, row) in results.iter_mut().zip(rows.clone()) {
                        *result = one_row(path, matrix.tensor_type, matrix.row(row), x);
                    }
                }
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

/// Eight rows at once, on the widest path.
#[cfg(target_arch = "x86_64")]
fn several(tensor_type: TensorType, rows: [&[u8]; ROWS], x: &[f32]) -> [f32; ROWS] {
    // SAFETY: the caller chose the path, which was found on this processor; rows are as long as `x`.
    let mut partials = unsafe {
        match tensor_type {
            TensorType::F32 => avx512::float_rows::<avx512::Single, ROWS>(rows, x),
            TensorType::F16 => avx512::float_rows::<avx512::Half, ROWS>(rows, x),
            _ => avx512::float_rows::<avx512::Brain, ROWS>(rows, x),
        }
    };
    let whole = x.len() / 16 * 16;
    let tail = &x[whole..];
    if !tail.is_empty() {
        for (row, partials) in rows.iter().zip(&mut partials) {
            let mut values = [0f32; 16];
            let values = &mut values[..tail.len()];
            tensor_type.decode(&row[tensor_type.row_bytes(whole)..], values);
            for ((partial, weight), x) in partials.iter_mut().zip(values).zip(tail) {
                *partial = weight.mul_add(*x, *partial);
            }
        }
    }
    partials.each_ref().map(tree)
}

#[cfg(not(target_arch = "x86_64"))]
fn several(_: TensorType, _: [&[u8]; ROWS], _: &[f32]) -> [f32; ROWS] {
    unreachable!("the widest path is of another processor")
}
