//! Products of stored matrices and activations.
//!
//! **The order.** A row is summed into sixteen partial sums. For float rows, element `i` goes to partial
//! sum `i mod 16` by one fused multiply-add. For rows in blocks, the exact integer sum of group `g` of 32
//! quants times activations is multiplied by the product of the two scales and added to partial sum
//! `g mod 16`, fused as well; if the halves of a group have separate scales, that is done for both,
//! one after the other; if there are minima, the product of a minimum and the sum of activations is
//! subtracted after each, fused too. At the end, partial sums that are 8 apart are added, then 4, 2 and 1 apart.
//! Every path keeps this order, for one token as for many, so all agree bit for bit.
//!
//! Paths of the class [`Class::Bf16`](crate::Class::Bf16) multiply all but rows of `F32` in the order of [`tiles`].

mod activations;
#[cfg(target_arch = "x86_64")]
mod avx2;
#[cfg(target_arch = "x86_64")]
mod avx512;
mod floats;
mod form;
#[cfg(target_arch = "x86_64")]
mod lines;
#[cfg(target_arch = "x86_64")]
mod panel;
mod quants;
mod scalar;
mod stored;
mod tiles;
mod work;

use deft_formats::quant::TensorType;

pub use activations::Activations;
#[cfg(target_arch = "x86_64")]
pub(crate) use avx512::{Floats, words};
pub(crate) use floats::dot;
#[cfg(target_arch = "x86_64")]
pub(crate) use floats::{Half, Single};
pub use stored::{HostMemory, Stored};

use crate::{Instructions, Team};
use smallvec::SmallVec;
use work::Work;

/// Number of partial sums.
pub(crate) const PARTIALS: usize = 16;

/// Sum of the partial sums, in the order of the tree.
#[inline(always)]
pub(crate) fn tree(partials: &[f32; PARTIALS]) -> f32 {
    let mut sums = *partials;
    for width in [8, 4, 2, 1] {
        for at in 0..width {
            sums[at] += sums[at + width];
        }
    }
    sums[0]
}

/// A stored matrix: `rows x columns`, row-major.
#[derive(Debug, Clone, Copy)]
pub struct Matrix<B> {
    /// How it is stored.
    pub tensor_type: TensorType,
    /// Length of an output.
    pub rows: usize,
    /// Length of an input.
    pub columns: usize,
    /// `rows` rows of `tensor_type.row_bytes(columns)` bytes.
    pub bytes: B,
}

impl<'a> Matrix<Stored<'a>> {
    fn row(&self, row: usize) -> &'a [u8] {
        let bytes = self.tensor_type.row_bytes(self.columns);
        &self.bytes.near()[row * bytes..][..bytes]
    }
}

/// `out[token][row] = matrix[row] . x[token]`; `out` is `tokens x rows`.
///
/// Each product is summed in the order above, so the numbers of tokens and threads do not change the result. Each thread
/// allocates its working space at its first product of several tokens.
///
/// # Panics
/// If lengths do not match, or `x` was not prepared for this type on this path.
pub fn multiply<'m>(
    path: Instructions,
    team: &Team,
    matrix: Matrix<impl Into<Stored<'m>>>,
    x: &Activations,
    out: &mut [f32],
) {
    multiply_all(path, team, x, [(matrix, out)]);
}

/// The same for several matrices with the same `x`. Threads continue with the next matrix without waiting for each other.
///
/// # Panics
/// As [`multiply`].
pub(crate) fn multiply_all<'m, 'o, B: Into<Stored<'m>>>(
    path: Instructions,
    team: &Team,
    x: &Activations,
    products: impl IntoIterator<Item = (Matrix<B>, &'o mut [f32])>,
) {
    assert!(path.runs_here(), "this processor has no {path}");
    assert_eq!(x.path, Some(path), "activations for another path");
    let works = products.into_iter().map(|(matrix, out)| {
        let Matrix { tensor_type, rows, columns, bytes } = matrix;
        let matrix = Matrix { tensor_type, rows, columns, bytes: bytes.into() };
        let row_bytes = matrix.tensor_type.row_bytes(matrix.columns);
        assert_eq!(matrix.bytes.len(), matrix.rows * row_bytes, "matrix and its bytes differ");
        assert_eq!(x.width, matrix.columns, "activations of another width");
        assert_eq!(out.len(), x.tokens * matrix.rows, "output has the wrong length");
        assert!(x.fits(matrix.tensor_type), "activations for another type");
        Work::of(path, team.threads(), matrix, x, out)
    });
    if x.tokens > 0 {
        work::run(team, &works.collect::<SmallVec<[_; 4]>>());
    }
}

#[cfg(test)]
pub(crate) mod tests;
