//! The processor with the host's memory: a team of threads on a path.

use std::num::NonZero;
use std::ops::DerefMut;

use smallvec::SmallVec;

use super::routing::{Chosen, Routing, choose};
use super::{CacheRows, Destination, Device, Looks, Norm, Product};
use crate::attention::{Attention, Cached, SpanSums, attend};
use crate::matrix::{Activations, Matrix, Stored, dot, multiply_all};
use crate::pointwise::{
    GateCurve, Pairs, add, add_rows, add_scaled, gate, gelu_erf, layer_norm, rms_norm,
    rms_norm_in_place, soft_cap, softmax, turn,
};
use crate::{Instructions, PAGE, Team, in_large_pages};

/// Memory of pages on the host.
pub type HostPages = Box<dyn DerefMut<Target = [u8]> + Send + Sync>;

/// Instructions, and a team of threads that waits.
#[derive(Debug)]
pub struct Host {
    path: Instructions,
    team: Team,
}

/// Rows of a length that a thread takes at a time where little is done with each value: below 8,192 values
/// handing out work costs more than it saves.
fn grain(length: usize) -> usize {
    8192_usize.div_ceil(length.max(1))
}

impl Host {
    /// A host with a path and a number of threads; by default one thread per processor.
    ///
    /// # Panics
    /// This processor cannot run the path.
    #[must_use]
    pub fn new(path: Instructions, threads: Option<NonZero<usize>>) -> Self {
        assert!(path.runs_here(), "this processor has no {path}");
        Self { path, team: Team::new(threads) }
    }

    /// The instructions.
    #[must_use]
    pub fn path(&self) -> Instructions {
        self.path
    }

    /// The threads.
    #[must_use]
    pub fn team(&self) -> &Team {
        &self.team
    }

    /// Runs work on each row, with its index; `width` is the length of a row.
    pub fn rows(&self, rows: &mut [f32], width: usize, work: impl Fn(usize, &mut [f32]) + Sync) {
        self.team.rows(rows, width, grain(width), work);
    }

    /// As [`Device::norm`], of any rows.
    pub fn norm_rows(&self, norm: &Norm<Vec<f32>>, x: &[f32], out: &mut [f32]) {
        let (path, width) = (self.path, norm.weight.len());
        if norm.bias.is_some() {
            out.copy_from_slice(x);
            return self.norm_rows_in_place(norm, out);
        }
        self.rows(out, width, |row, out| {
            rms_norm(path, &x[row * width..][..width], &norm.weight, norm.epsilon, out);
        });
    }

    fn norm_rows_in_place(&self, norm: &Norm<Vec<f32>>, rows: &mut [f32]) {
        let (path, Norm { weight, bias, epsilon }) = (self.path, norm);
        self.rows(rows, weight.len(), |_, row| match bias {
            Some(bias) => layer_norm(path, row, weight, bias, *epsilon),
            None => rms_norm_in_place(path, row, weight, *epsilon),
        });
    }

    /// As [`Device::multiply`], of any rows.
    pub fn multiply_rows<'a, const COUNT: usize>(
        &self,
        x: &[f32],
        products: [(Matrix<Stored<'a>>, &'a mut [f32]); COUNT],
        activations: &mut Activations,
    ) {
        let (mut waiting, mut rest) = (SmallVec::<[_; 4]>::new(), products.into_iter().peekable());
        while let Some((matrix, out)) = rest.next() {
            if waiting.is_empty() {
                activations.prepare(self.path, &self.team, matrix.tensor_type, x, matrix.columns);
            }
            waiting.push((matrix, out));
            let goes_on = rest.peek().is_some_and(|(next, _)| activations.fits(next.tensor_type));
            if !goes_on {
                multiply_all(self.path, &self.team, activations, waiting.drain(..));
            }
        }
    }

    /// `x = cap * tanh(x / cap)`, element by element.
    pub fn soft_cap(&self, values: &mut [f32], cap: f32) {
        soft_cap(self.path, values, cap);
    }

    /// The shares of all experts for each row of `x`. The router is multiplied in floats, however it is stored: rounding
    /// what it is multiplied with can turn a near tie over.
    fn shares(
        &self,
        x: &[f32],
        router: Matrix<Stored<'_>>,
        routing: &mut Routing<Vec<f32>>,
        activations: &mut Activations,
    ) {
        let Matrix { tensor_type, rows: experts, columns: width, bytes } = router;
        let path = self.path;
        let Routing { router: as_floats, shares, .. } = routing;
        shares.resize(x.len() / width * experts, 0.0);
        if Activations::stay_floats(self.path, tensor_type) {
            self.multiply_rows(x, [(router, &mut shares[..])], activations);
        } else {
            as_floats.resize(experts * width, 0.0);
            let row_bytes = tensor_type.row_bytes(width);
            self.rows(as_floats, width, |expert, row| {
                tensor_type.decode(&bytes.near()[expert * row_bytes..][..row_bytes], row);
            });
            let of_token = grain(experts * width);
            self.team.rows(shares, experts, of_token, |token, shares| {
                let x = &x[token * width..][..width];
                for (row, share) in as_floats.chunks_exact(width).zip(shares) {
                    *share = dot(path, row, x);
                }
            });
        }
        self.rows(shares, experts, |_, shares| softmax(path, shares));
    }
}

impl CacheRows<HostPages> {
    /// To be read.
    #[must_use]
    pub fn cached(&self) -> Cached<'_> {
        let Self { tensor_type, heads, length, ref pages, .. } = *self;
        Cached { tensor_type, length, heads, bytes: pages }
    }
}

impl Device for Host {
    type Numbers = Vec<f32>;
    type Stored<'a> = Stored<'a>;
    type Pages = HostPages;
    type Activations = Activations;
    type Sums = SpanSums;

    fn room(&self, count: usize) -> Vec<f32> {
        in_large_pages(count, f32::NAN)
    }

    fn size(&self, numbers: &mut Vec<f32>, count: usize) {
        numbers.resize(count, 0.0);
    }

    fn put(&self, values: &mut Vec<f32>, numbers: &mut Vec<f32>) {
        std::mem::swap(values, numbers);
    }

    fn take(&self, numbers: &mut Vec<f32>, values: &mut Vec<f32>) {
        std::mem::swap(values, numbers);
    }

    fn activations(&self, rows: usize, width: usize, floats: bool) -> Activations {
        Activations::with_room(self.path, rows, width, floats)
    }

    fn sums(&self, rows: usize, positions: usize, value_length: usize) -> SpanSums {
        SpanSums::with_room(rows, positions, value_length)
    }

    fn multiply<const COUNT: usize>(
        &self,
        x: &Vec<f32>,
        products: [Product<'_, Self>; COUNT],
        activations: &mut Activations,
    ) {
        let products = products.map(|(matrix, Destination { numbers, from })| {
            let count = x.len() / matrix.columns * matrix.rows;
            (matrix, &mut numbers[from..from + count])
        });
        self.multiply_rows(x, products, activations);
    }

    fn write_cache(
        &self,
        cache: &mut CacheRows<HostPages>,
        rows: &Vec<f32>,
        place: impl Fn(usize) -> (u32, usize) + Sync,
    ) {
        let CacheRows { kind, tensor_type, heads, length, pages } = cache;
        let sizes = (*heads, *length);
        Cached::write_all(&self.team, *tensor_type, *kind, sizes, rows, place, pages);
    }

    fn copy_page(&self, cache: &mut CacheRows<HostPages>, from: u32, to: u32, positions: usize) {
        let CacheRows { kind, tensor_type, heads, length, ref mut pages } = *cache;
        let bytes = PAGE * tensor_type.row_bytes(length);
        for head in 0..heads {
            let at = |page: u32| (page as usize * heads + head) * bytes;
            let (low, high) = pages.split_at_mut(at(from).max(at(to)));
            let (from, to) = if from < to {
                (&low[at(from)..][..bytes], &mut high[..bytes])
            } else {
                (&high[..bytes], &mut low[at(to)..][..bytes])
            };
            Cached::copy(tensor_type, kind, positions, from, to);
        }
    }

    fn attend(
        &self,
        [keys, values]: [&CacheRows<HostPages>; 2],
        looks: &Looks<'_>,
        queries: &Vec<f32>,
        out: &mut Vec<f32>,
        sums: &mut SpanSums,
    ) {
        let Looks { pages, each, heads, scale, cap } = *looks;
        let (keys, values) = (keys.cached(), values.cached());
        let attention = Attention { keys, values, pages, heads, scale, cap };
        attend(self.path, &self.team, &attention, each, queries, out, sums);
    }

    fn norm(&self, norm: &Norm<Vec<f32>>, x: &Vec<f32>, out: &mut Vec<f32>) {
        self.norm_rows(norm, x, out);
    }

    fn norm_in_place(&self, norm: &Norm<Vec<f32>>, rows: &mut Vec<f32>) {
        self.norm_rows_in_place(norm, rows);
    }

    fn turn(
        &self,
        rows: &mut Vec<f32>,
        head_length: usize,
        pairs: Pairs,
        angles: &Vec<f32>,
        tokens: usize,
    ) {
        let (own, width, path) = (angles.len() / tokens, rows.len() / tokens, self.path);
        self.rows(rows, width, |token, row| {
            turn(path, row, head_length, pairs, &angles[token * own..][..own]);
        });
    }

    fn gate(&self, curve: GateCurve, inner: &mut Vec<f32>, up: &Vec<f32>, width: usize) {
        let path = self.path;
        self.rows(inner, width, |row, inner| {
            gate(path, curve, inner, &up[row * width..][..width]);
        });
    }

    fn gelu(&self, rows: &mut Vec<f32>, width: usize) {
        let path = self.path;
        self.rows(rows, width, |_, row| gelu_erf(path, row));
    }

    fn add(&self, sum: &mut Vec<f32>, x: &Vec<f32>, width: usize) {
        let path = self.path;
        self.rows(sum, width, |row, sum| add(path, sum, &x[row * width..][..width]));
    }

    fn add_to_rows(&self, rows: &mut Vec<f32>, values: &Vec<f32>) {
        let path = self.path;
        self.rows(rows, values.len(), |_, row| add_rows(path, row, values));
    }

    fn choose(
        &self,
        x: &Vec<f32>,
        router: Matrix<Stored<'_>>,
        routing: &mut Routing<Vec<f32>>,
        activations: &mut Activations,
    ) {
        self.shares(x, router, routing, activations);
        let Routing { used, shares, chosen, .. } = routing;
        let (used, experts) = (*used, router.rows);
        chosen.resize(shares.len() / experts * used, Chosen::default());
        self.team.rows(chosen, used, grain(experts * used), |token, chosen| {
            choose(&shares[token * experts..][..experts], chosen);
        });
    }

    fn gather(&self, x: &Vec<f32>, rows: &[u32], width: usize, out: &mut Vec<f32>) {
        self.rows(out, width, |row, out| {
            out.copy_from_slice(&x[rows[row] as usize * width..][..width]);
        });
    }

    fn combine(&self, routing: &mut Routing<Vec<f32>>, width: usize, out: &mut Vec<f32>) {
        let (path, Routing { used, chosen, results, .. }) = (self.path, &*routing);
        self.team.rows(out, width, grain(width * used), |row, sum| {
            sum.fill(0.0);
            for chosen in &chosen[row * used..][..*used] {
                let result = &results[chosen.place as usize * width..][..width];
                add_scaled(path, sum, chosen.share, result);
            }
        });
    }
}
