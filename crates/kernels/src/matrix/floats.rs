//! Products of rows of floats.

#[cfg(target_arch = "x86_64")]
use std::ops::Range;

use deft_formats::quant::TensorType;

use super::activations::Activations;
#[cfg(target_arch = "x86_64")]
use super::activations::FLOAT_TOKENS;
use super::{Matrix, scalar};
#[cfg(target_arch = "x86_64")]
use super::{avx2, avx512};
use crate::team::Outputs;
#[cfg(target_arch = "x86_64")]
use crate::team::Results;
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

/// Rows are stored as single floats.
#[cfg(target_arch = "x86_64")]
pub(crate) struct Single;
/// As half floats.
#[cfg(target_arch = "x86_64")]
pub(crate) struct Half;
/// As the upper halves of single floats.
#[cfg(target_arch = "x86_64")]
pub(crate) struct Brain;

pub(super) fn multiply(
    path: Path,
    team: &Team,
    matrix: Matrix<'_>,
    x: &Activations,
    out: &Outputs<'_>,
) {
    #[cfg(target_arch = "x86_64")]
    match (path, matrix.tensor_type) {
        (Path::Avx512, TensorType::F32) => return wide_panels::<Single>(team, &matrix, x, out),
        (Path::Avx512, TensorType::F16) => return wide_panels::<Half>(team, &matrix, x, out),
        (Path::Avx512, _) => return wide_panels::<Brain>(team, &matrix, x, out),
        (Path::AvxVnni | Path::Avx2, _) if x.tokens == 1 => {}
        (Path::AvxVnni | Path::Avx2, TensorType::F32) => {
            return panels::<Single>(team, &matrix, x, out);
        }
        (Path::AvxVnni | Path::Avx2, TensorType::F16) => {
            return panels::<Half>(team, &matrix, x, out);
        }
        (Path::AvxVnni | Path::Avx2, _) => return panels::<Brain>(team, &matrix, x, out),
        (Path::Scalar, _) => {}
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

/// On the widest path.
#[cfg(target_arch = "x86_64")]
fn wide_panels<F: avx512::Floats>(
    team: &Team,
    matrix: &Matrix<'_>,
    x: &Activations,
    out: &Outputs<'_>,
) {
    let shape = (avx512::FLOAT_ROWS, FLOAT_TOKENS);
    each_panel(team, matrix, x, out, shape, |rows, tokens, results| {
        // SAFETY: the path was found on this processor; there are as many rows and tokens as results.
        unsafe { avx512::multiply_floats::<F>(rows, x.float_tiles(tokens.start), results) };
    });
}

/// With 256 bits.
#[cfg(target_arch = "x86_64")]
fn panels<F: avx2::Eights>(team: &Team, matrix: &Matrix<'_>, x: &Activations, out: &Outputs<'_>) {
    let shape = (avx2::FLOAT_ROWS, avx2::FLOAT_TOKENS);
    each_panel(team, matrix, x, out, shape, |rows, tokens, results| {
        let values = tokens.start * matrix.columns..tokens.end * matrix.columns;
        // SAFETY: as above.
        unsafe { avx2::multiply_floats::<F>(rows, &x.floats()[values], results) };
    });
}

/// Panels of so many rows, and tokens in whole tiles of so many: what is to be done with each, by the bytes of its
/// rows.
#[cfg(target_arch = "x86_64")]
fn each_panel(
    team: &Team,
    matrix: &Matrix<'_>,
    x: &Activations,
    out: &Outputs<'_>,
    (rows, tile): (usize, usize),
    work: impl Fn(&[u8], Range<usize>, &Results<'_>) + Sync,
) {
    let row_bytes = matrix.tensor_type.row_bytes(matrix.columns);
    let part = x.tokens_together(team.threads(), tile);
    let (panels, parts) = (matrix.rows.div_ceil(rows), x.tokens.div_ceil(part.max(1)));
    let grain = LEAST_PRODUCTS.div_ceil((matrix.columns * part * rows).max(1));
    team.each(panels * parts, grain, |_, pieces| {
        for piece in pieces {
            let (token, row) = (piece / panels * part, piece % panels * rows);
            let tokens = token..x.tokens.min(token + part);
            let rows = row..matrix.rows.min(row + rows);
            let stored = &matrix.bytes[rows.start * row_bytes..rows.end * row_bytes];
            // SAFETY: rows of some tokens are given to one thread once.
            let results = unsafe { out.results(tokens.clone(), rows) };
            work(stored, tokens, &results);
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
        (Path::Avx512 | Path::AvxVnni | Path::Avx2, TensorType::F32) => unsafe {
            avx2::float_row::<Single>(row, x)
        },
        // SAFETY: as above.
        #[cfg(target_arch = "x86_64")]
        (Path::Avx512 | Path::AvxVnni | Path::Avx2, TensorType::F16) => unsafe {
            avx2::float_row::<Half>(row, x)
        },
        // SAFETY: as above.
        #[cfg(target_arch = "x86_64")]
        (Path::Avx512 | Path::AvxVnni | Path::Avx2, _) => unsafe {
            avx2::float_row::<Brain>(row, x)
        },
        (_, TensorType::F32) => scalar::f32_row(row, x),
        (_, TensorType::F16) => scalar::f16_row(row, x),
        (_, _) => scalar::bf16_row(row, x),
    }
}
