//! Products of float weights.

use std::ops::Range;

use deft_formats::quant::TensorType;

use super::activations::Activations;
#[cfg(target_arch = "x86_64")]
use super::activations::FLOAT_TOKENS;
use super::work::{Cut, Work};
use super::{Matrix, Stored, scalar};
#[cfg(target_arch = "x86_64")]
use super::{avx2, avx512};
use crate::Instructions;
use crate::team::Outputs;

/// Least number of multiplications that a thread takes at a time.
const LEAST_PRODUCTS: usize = 1 << 15;

/// Product of two rows of floats, in the order of `F32` rows.
///
/// # Panics
/// If they differ in length.
#[must_use]
pub(crate) fn dot(path: Instructions, row: &[f32], x: &[f32]) -> f32 {
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

pub(super) fn work<'a>(
    path: Instructions,
    threads: usize,
    matrix: Matrix<Stored<'a>>,
    x: &'a Activations,
    out: Outputs<'a>,
) -> Work<'a> {
    #[cfg(target_arch = "x86_64")]
    if let Some((shape, run)) = panels(path.vectors(), matrix.tensor_type, x.tokens) {
        let part = x.tokens_together(threads, shape.1);
        let cut = Cut {
            count: matrix.rows.div_ceil(shape.0) * x.tokens.div_ceil(part.max(1)),
            grain: LEAST_PRODUCTS.div_ceil((matrix.columns * part * shape.0).max(1)),
            run,
        };
        return Work { matrix, x, out, part, cut };
    }
    let _ = threads;
    let grain = LEAST_PRODUCTS.div_ceil((matrix.columns * x.tokens).max(1));
    let cut = Cut { count: matrix.rows, grain, run: rows };
    Work { matrix, x, out, part: x.tokens, cut }
}

/// Rows one by one.
fn rows(work: &Work<'_>, rows: Range<usize>) {
    let Matrix { tensor_type, columns, .. } = work.matrix;
    let path = work.x.path.unwrap_or(Instructions::Scalar);
    for row in rows {
        for (token, x) in work.x.floats().chunks(columns).enumerate() {
            // SAFETY: rows are given to one thread once.
            let result = unsafe { work.out.stretch(token, row..row + 1) };
            result[0] = one_row(path, tensor_type, work.matrix.row(row), x);
        }
    }
}

/// Numbers of rows and tokens of a tile, and the function that computes panels.
#[cfg(target_arch = "x86_64")]
type Panels = ((usize, usize), fn(&Work<'_>, Range<usize>));

/// The panels of a path, if it has any.
#[cfg(target_arch = "x86_64")]
fn panels(path: Instructions, tensor_type: TensorType, tokens: usize) -> Option<Panels> {
    let wide = (avx512::FLOAT_ROWS, FLOAT_TOKENS);
    let narrow = (avx2::FLOAT_ROWS, avx2::FLOAT_TOKENS);
    Some(match (path, tensor_type) {
        (Instructions::Avx512, TensorType::F32) => (wide, wide_panels::<Single>),
        (Instructions::Avx512, TensorType::F16) => (wide, wide_panels::<Half>),
        (Instructions::Avx512, _) => (wide, wide_panels::<Brain>),
        (Instructions::AvxVnni | Instructions::Avx2, _) if tokens == 1 => return None,
        (Instructions::AvxVnni | Instructions::Avx2, TensorType::F32) => {
            (narrow, narrow_panels::<Single>)
        }
        (Instructions::AvxVnni | Instructions::Avx2, TensorType::F16) => {
            (narrow, narrow_panels::<Half>)
        }
        (Instructions::AvxVnni | Instructions::Avx2, _) => (narrow, narrow_panels::<Brain>),
        (Instructions::Scalar | Instructions::Amx | Instructions::AmxSimulated, _) => return None,
    })
}

/// With AVX-512.
#[cfg(target_arch = "x86_64")]
fn wide_panels<F: avx512::Floats>(work: &Work<'_>, pieces: Range<usize>) {
    for (tokens, rows) in work.panels(pieces, avx512::FLOAT_ROWS) {
        let stored = work.stored(rows.clone());
        let x = work.x.float_tiles(tokens.start);
        // SAFETY: rows of some tokens are given to one thread once; the path was found on this processor, and there
        // are as many rows and tokens as results.
        unsafe { avx512::multiply_floats::<F>(stored, x, &work.out.results(tokens, rows)) };
    }
}

/// With AVX2.
#[cfg(target_arch = "x86_64")]
fn narrow_panels<F: avx2::Eights>(work: &Work<'_>, pieces: Range<usize>) {
    let columns = work.matrix.columns;
    for (tokens, rows) in work.panels(pieces, avx2::FLOAT_ROWS) {
        let stored = work.stored(rows.clone());
        let x = &work.x.floats()[tokens.start * columns..tokens.end * columns];
        // SAFETY: as above.
        unsafe { avx2::multiply_floats::<F>(stored, x, &work.out.results(tokens, rows)) };
    }
}

/// Product of a row of floats and a token.
fn one_row(path: Instructions, tensor_type: TensorType, row: &[u8], x: &[f32]) -> f32 {
    assert_eq!(row.len(), tensor_type.row_bytes(x.len()), "row and activations differ in length");
    match (path.vectors(), tensor_type) {
        // SAFETY: the path was found on this processor (its instructions include the other's); the
        // lengths were asserted.
        #[cfg(target_arch = "x86_64")]
        (Instructions::Avx512 | Instructions::AvxVnni | Instructions::Avx2, TensorType::F32) => unsafe {
            avx2::float_row::<Single>(row, x)
        },
        // SAFETY: as above.
        #[cfg(target_arch = "x86_64")]
        (Instructions::Avx512 | Instructions::AvxVnni | Instructions::Avx2, TensorType::F16) => unsafe {
            avx2::float_row::<Half>(row, x)
        },
        // SAFETY: as above.
        #[cfg(target_arch = "x86_64")]
        (Instructions::Avx512 | Instructions::AvxVnni | Instructions::Avx2, _) => unsafe {
            avx2::float_row::<Brain>(row, x)
        },
        (_, TensorType::F32) => scalar::f32_row(row, x),
        (_, TensorType::F16) => scalar::f16_row(row, x),
        (_, _) => scalar::bf16_row(row, x),
    }
}
