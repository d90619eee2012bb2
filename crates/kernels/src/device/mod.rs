//! A device computes a model: it has memory, and a few operations on that memory.
//!
//! The engine uses only these operations, so another device can be added by implementing them. Rows of numbers are in a
//! device's memory, and move to another device by way of the host's memory.

mod host;
mod routing;

pub use host::{Host, HostPages};
pub use routing::{Chosen, Routing};

use crate::attention::{Kind, Look};
use crate::matrix::Matrix;
use crate::pointwise::{GateCurve, Pairs};

use deft_formats::quant::TensorType;

/// Cached rows of one kind of one layer.
#[derive(Debug)]
pub struct CacheRows<P> {
    /// Keys or values.
    pub kind: Kind,
    /// How a row is stored: `F32`, `F16` or `Q8_0`.
    pub tensor_type: TensorType,
    /// Number of heads: each position has a row per head.
    pub heads: usize,
    /// Length of a row.
    pub length: usize,
    /// All pages, `pages x heads x page`.
    pub pages: P,
}

impl<P> CacheRows<P> {
    /// Bytes of `pages` pages.
    #[must_use]
    pub fn bytes(tensor_type: TensorType, heads: usize, length: usize, pages: usize) -> usize {
        pages * heads * crate::PAGE * tensor_type.row_bytes(length)
    }
}

/// Sizes of an attention, and the positions that each token sees.
#[derive(Debug, Clone, Copy)]
pub struct Looks<'a> {
    /// Page numbers of each sequence.
    pub pages: &'a [&'a [u32]],
    /// The positions that each token sees.
    pub each: &'a [Look],
    /// Number of query heads.
    pub heads: usize,
    /// Factor of the scores.
    pub scale: f32,
    /// Scores are softly limited to plus and minus this.
    pub cap: Option<f32>,
}

/// A norm of rows, with its weights in a device's memory.
#[derive(Debug)]
pub struct Norm<N> {
    /// A factor for each value of a row.
    pub weight: N,
    /// With a bias, rows are normed to mean 0 and variance 1, and the bias is added; without, to a mean square of 1.
    pub bias: Option<N>,
    /// Added to the mean square.
    pub epsilon: f32,
}

/// A matrix, and the destination of a product with it.
pub type Product<'a, D> =
    (Matrix<<D as Device>::Stored<'a>>, Destination<'a, <D as Device>::Numbers>);

/// The part of some numbers that results are written to.
#[derive(Debug)]
pub struct Destination<'a, N> {
    /// All rows.
    pub numbers: &'a mut N,
    /// The first one.
    pub from: usize,
}

impl<'a, N> From<&'a mut N> for Destination<'a, N> {
    fn from(numbers: &'a mut N) -> Self {
        Self { numbers, from: 0 }
    }
}

/// A device. Operations panic if lengths do not match. They allocate nothing beyond the room that was allocated before.
pub trait Device: Send {
    /// Rows of numbers in its memory.
    type Numbers: Send;
    /// Stored weights in its memory.
    type Stored<'a>: Copy + Send + Sync;
    /// Pages of cached rows in its memory.
    type Pages: Send;
    /// Activations as products read them, for example rounded to eight bits.
    type Activations: Send;
    /// Partial sums of attention over long sequences.
    type Sums: Send;

    /// Allocates room for `count` numbers and touches all of it, so that measured memory includes it.
    fn room(&self, count: usize) -> Self::Numbers;

    /// Sets the length. Within the room that was allocated before, this allocates nothing. Added numbers have
    /// unspecified values.
    fn size(&self, numbers: &mut Self::Numbers, count: usize);

    /// Copies values from host memory. The contents of `values` are unspecified afterwards.
    fn put(&self, values: &mut Vec<f32>, numbers: &mut Self::Numbers);

    /// Copies numbers to host memory. The contents of `numbers` are unspecified afterwards.
    fn take(&self, numbers: &mut Self::Numbers, values: &mut Vec<f32>);

    /// Allocates room for activations of `rows` rows of `width` values; `floats` says whether some weights are multiplied
    /// with activations as floats.
    fn activations(&self, rows: usize, width: usize, floats: bool) -> Self::Activations;

    /// Allocates room for partial sums of `rows` query rows over `positions` cached positions, with values of
    /// `value_length`.
    fn sums(&self, rows: usize, positions: usize, value_length: usize) -> Self::Sums;

    /// `out[row] = matrix . x[row]` for several matrices with the same `x`, which is rounded once for all types that need the same
    /// rounding.
    fn multiply<const COUNT: usize>(
        &self,
        x: &Self::Numbers,
        products: [Product<'_, Self>; COUNT],
        activations: &mut Self::Activations,
    );

    /// Writes rows of all heads of some tokens, `tokens x heads x length`, each token's to a page and a slot in it.
    fn write_cache(
        &self,
        cache: &mut CacheRows<Self::Pages>,
        rows: &Self::Numbers,
        place: impl Fn(usize) -> (u32, usize) + Sync,
    );

    /// Copies the first positions of a page to another one.
    fn copy_page(&self, cache: &mut CacheRows<Self::Pages>, from: u32, to: u32, positions: usize);

    /// `out = softmax(cap(scale * keys . query)) . values` for each token and query head; `queries` is
    /// `tokens x heads x key length`, `out` is `tokens x heads x value length`.
    fn attend(
        &self,
        cache: [&CacheRows<Self::Pages>; 2],
        looks: &Looks<'_>,
        queries: &Self::Numbers,
        out: &mut Self::Numbers,
        sums: &mut Self::Sums,
    );

    /// Norms each row of `x`; rows have the length of the norm's weights.
    fn norm(&self, norm: &Norm<Self::Numbers>, x: &Self::Numbers, out: &mut Self::Numbers);

    /// The same in place.
    fn norm_in_place(&self, norm: &Norm<Self::Numbers>, rows: &mut Self::Numbers);

    /// Rotates pairs of values of each head by the angles of its token: `angles` has a sine and a cosine for each pair of each
    /// token.
    fn turn(
        &self,
        rows: &mut Self::Numbers,
        head_length: usize,
        pairs: Pairs,
        angles: &Self::Numbers,
        tokens: usize,
    );

    /// `gate = curve(gate) * up`, element by element, in rows of `width`.
    fn gate(&self, curve: GateCurve, gate: &mut Self::Numbers, up: &Self::Numbers, width: usize);

    /// The Gaussian error unit by the error function, in rows of a width.
    fn gelu(&self, rows: &mut Self::Numbers, width: usize);

    /// `sum += x`, element by element, in rows of a width.
    fn add(&self, sum: &mut Self::Numbers, x: &Self::Numbers, width: usize);

    /// Adds the same values to each row.
    fn add_to_rows(&self, rows: &mut Self::Numbers, values: &Self::Numbers);

    /// Chooses for each row of `x` the experts with the largest shares, and writes them to `routing`. The router has a row
    /// for each expert.
    fn choose(
        &self,
        x: &Self::Numbers,
        router: Matrix<Self::Stored<'_>>,
        routing: &mut Routing<Self::Numbers>,
        activations: &mut Self::Activations,
    );

    /// Copies some rows of `x` by their indices.
    fn gather(&self, x: &Self::Numbers, rows: &[u32], width: usize, out: &mut Self::Numbers);

    /// `out[row]` = sum of the results of its experts in `routing`, each times its share, the largest share first.
    fn combine(&self, routing: &mut Routing<Self::Numbers>, width: usize, out: &mut Self::Numbers);
}
