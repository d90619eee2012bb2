//! The part of a layer that computes each token by itself: a gated one, or several of which a router chooses.

use deft_kernels::{Activations, Gate as Curve, add_scaled, dot, gate, in_large_pages, softmax};
use deft_planning::ModelShape;

use super::parts::{Workspace, grain, sized};
use super::tensors::MatrixPlace;
use crate::compute::Compute;
use crate::mapped::Mapped;

/// The gate's curve.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Gate {
    /// x times its sigmoid.
    Silu,
    /// The Gaussian error unit by its tanh form.
    GeluTanh,
}

/// Gate, up and down of a gated part.
pub(super) struct Gated {
    pub(super) gate: MatrixPlace,
    pub(super) up: MatrixPlace,
    pub(super) down: MatrixPlace,
}

/// What stands between two norms besides attention.
pub(super) enum FeedForward {
    /// One gated part.
    Dense(Gated),
    /// Several, of which a router chooses for each token.
    Experts(Experts),
}

/// Gated parts of which a router chooses some for each token.
pub(super) struct Experts {
    pub(super) router: MatrixPlace,
    pub(super) experts: Vec<Gated>,
    /// How many a token is computed with.
    pub(super) used: usize,
}

impl FeedForward {
    /// Experts, and those of them that a token is computed with.
    pub(super) fn experts(&self) -> (u32, u32) {
        let count = |count: usize| u32::try_from(count).unwrap_or(u32::MAX);
        match self {
            Self::Dense(_) => (0, 0),
            Self::Experts(found) => (count(found.experts.len()), count(found.used)),
        }
    }

    /// Computes the normed tokens of a step, in place.
    pub(super) fn compute(
        &self,
        file: &Mapped,
        compute: &Compute,
        curve: Gate,
        work: &mut Workspace,
    ) {
        match self {
            Self::Dense(part) => {
                let Workspace { normed, gate, up, activations, .. } = work;
                let inner = normed.len() / part.down.row_count() * part.gate.row_count();
                let inner = (sized(gate, inner), sized(up, inner));
                part.compute(file, compute, curve, inner, activations, None, normed);
            }
            Self::Experts(experts) => experts.compute(file, compute, curve, work),
        }
    }
}

impl Gated {
    /// `out = down . (curve(gate . x) * (up . x))`, where `x` is what stands in `out` if nothing else is given;
    /// `inner` are two rows of the inner width for each token.
    #[expect(clippy::too_many_arguments, reason = "what it is computed from")]
    fn compute(
        &self,
        file: &Mapped,
        compute: &Compute,
        curve: Gate,
        (inner, up): (&mut [f32], &mut [f32]),
        activations: &mut Activations,
        x: Option<&[f32]>,
        out: &mut [f32],
    ) {
        let products = [(&self.gate, &mut *inner), (&self.up, &mut *up)];
        MatrixPlace::multiply_all(file, compute, x.unwrap_or(&*out), products, activations);
        let curve = match curve {
            Gate::Silu => Curve::Silu,
            Gate::GeluTanh => Curve::GeluTanh,
        };
        let (width, path) = (self.gate.row_count(), compute.path);
        compute.team.rows(inner, width, grain(width), |row, out| {
            gate(path, curve, out, &up[row * width..][..width]);
        });
        self.down.multiply(file, compute, inner, out, activations);
    }
}

/// An expert that a token is computed with.
#[derive(Debug, Clone, Copy, Default)]
struct Chosen {
    expert: u32,
    share: f32,
    /// Where its result stands among all of a step.
    place: u32,
}

/// Working space of a router.
#[derive(Default)]
pub(super) struct Routing {
    /// The router's rows as floats, where they are not stored as such: `experts x width`.
    rows: Vec<f32>,
    /// `tokens x experts`.
    shares: Vec<f32>,
    /// `tokens x used`, the likeliest first.
    chosen: Vec<Chosen>,
    /// Where each expert's results begin, and one past the last.
    starts: Vec<u32>,
    /// For each result, expert by expert, its token.
    tokens: Vec<u32>,
    /// `tokens x used x width`, expert by expert.
    results: Vec<f32>,
}

impl Routing {
    /// Space for steps of so many tokens, touched so that its memory is measured.
    pub(super) fn new(shape: &ModelShape, tokens: usize) -> Self {
        let (experts, used) = (shape.experts as usize, shape.experts_used as usize);
        let results = tokens * used;
        Self {
            rows: Vec::new(),
            shares: vec![f32::NAN; tokens * experts],
            chosen: vec![Chosen::default(); results],
            starts: vec![0; experts + 1],
            tokens: vec![0; results],
            results: in_large_pages(results * shape.width as usize, f32::NAN),
        }
    }

    /// Gives each result a place: those of an expert side by side, in the order of tokens.
    fn place(&mut self, experts: usize, used: usize) {
        self.starts.clear();
        self.starts.resize(experts + 1, 0);
        for chosen in &self.chosen {
            self.starts[chosen.expert as usize + 1] += 1;
        }
        for expert in 0..experts {
            self.starts[expert + 1] += self.starts[expert];
        }
        self.tokens.resize(self.chosen.len(), 0);
        for (token, chosen) in (0..).zip(self.chosen.chunks_mut(used)) {
            for chosen in chosen {
                let next = &mut self.starts[chosen.expert as usize];
                chosen.place = *next;
                self.tokens[*next as usize] = token;
                *next += 1;
            }
        }
        // Each start has gone on to the next one.
        self.starts.copy_within(0..experts, 1);
        self.starts[0] = 0;
    }
}

/// The largest of some shares, the first of equal ones first, each as a part of their sum.
fn choose(shares: &[f32], chosen: &mut [Chosen]) {
    let mut count = 0;
    for (expert, &share) in (0..).zip(shares) {
        let is_smaller = |other: &Chosen| other.share.total_cmp(&share).is_lt();
        let at = chosen[..count].iter().position(is_smaller).unwrap_or(count);
        if at == chosen.len() {
            continue;
        }
        count = (count + 1).min(chosen.len());
        chosen[at..count].rotate_right(1);
        chosen[at] = Chosen { expert, share, place: 0 };
    }
    let total: f32 = chosen.iter().map(|chosen| chosen.share).sum();
    chosen.iter_mut().for_each(|chosen| chosen.share /= total);
}

impl Experts {
    /// For each token: the router's likeliest experts, weighted by their share among themselves.
    /// Source: Shazeer et al. 2017; shares are made to sum to one over those used.
    ///
    /// Each expert is computed for all tokens that chose it, and results are added in the order of shares: what
    /// else is computed changes no bit.
    fn compute(&self, file: &Mapped, compute: &Compute, curve: Gate, work: &mut Workspace) {
        let width = self.experts[0].down.row_count();
        let tokens = work.normed.len() / width;
        let Workspace { normed, gate, up, scratch, activations, routing, .. } = work;
        self.route(file, compute, normed, activations, routing);
        routing.place(self.experts.len(), self.used);
        let Routing { chosen, starts, tokens: whose, results, .. } = routing;
        let results = sized(results, tokens * self.used * width);
        for (expert, part) in self.experts.iter().enumerate() {
            let own = starts[expert] as usize..starts[expert + 1] as usize;
            if own.is_empty() {
                continue;
            }
            let (count, inner) = (own.len(), own.len() * part.gate.row_count());
            let inner = (sized(gate, inner), sized(up, inner));
            let out = &mut results[own.start * width..own.end * width];
            let x = if count == tokens {
                &normed[..]
            } else {
                let gathered = sized(scratch, count * width);
                compute.team.rows(gathered, width, grain(width), |row, x| {
                    let token = whose[own.start + row] as usize;
                    x.copy_from_slice(&normed[token * width..][..width]);
                });
                gathered
            };
            part.compute(file, compute, curve, inner, activations, Some(x), out);
        }
        let path = compute.path;
        compute.team.rows(normed, width, grain(width * self.used), |token, sum| {
            sum.fill(0.0);
            for chosen in &chosen[token * self.used..][..self.used] {
                let result = &results[chosen.place as usize * width..][..width];
                add_scaled(path, sum, chosen.share, result);
            }
        });
    }

    /// Chooses the experts of all tokens. The router is multiplied in floats, however it is stored: rounding
    /// what it is multiplied with can turn a near tie over.
    fn route(
        &self,
        file: &Mapped,
        compute: &Compute,
        x: &[f32],
        activations: &mut Activations,
        routing: &mut Routing,
    ) {
        let (experts, width) = (self.experts.len(), self.experts[0].down.row_count());
        let (tokens, path) = (x.len() / width, compute.path);
        let Routing { rows, shares, chosen, .. } = routing;
        let shares = sized(shares, tokens * experts);
        if self.router.is_multiplied_in_floats(compute) {
            self.router.multiply(file, compute, x, shares, activations);
        } else {
            let rows = sized(rows, experts * width);
            compute.team.rows(rows, width, grain(width), |expert, row| {
                self.router.decode_row(file, expert, row);
            });
            compute.team.rows(shares, experts, grain(experts * width), |token, shares| {
                let x = &x[token * width..][..width];
                for (row, share) in rows.chunks_exact(width).zip(shares) {
                    *share = dot(path, row, x);
                }
            });
        }
        compute.team.rows(shares, experts, grain(experts), |_, shares| {
            softmax(path, shares);
        });
        chosen.resize(tokens * self.used, Chosen::default());
        compute.team.rows(chosen, self.used, grain(experts * self.used), |token, chosen| {
            choose(&shares[token * experts..][..experts], chosen);
        });
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn the_largest_shares_are_chosen_and_equal_ones_in_their_order(
            shares in prop::collection::vec(0_u8..6, 1..20),
            used in 1_usize..20,
        ) {
            let shares: Vec<f32> = shares.into_iter().map(|share| f32::from(share) + 0.25).collect();
            let used = used.min(shares.len());
            let mut order: Vec<usize> = (0..shares.len()).collect();
            order.sort_by(|&a, &b| shares[b].total_cmp(&shares[a]).then(a.cmp(&b)));
            let total: f32 = order[..used].iter().map(|&expert| shares[expert]).sum();
            let mut chosen = vec![Chosen::default(); used];
            choose(&shares, &mut chosen);
            for (chosen, &expert) in chosen.iter().zip(&order) {
                prop_assert_eq!(chosen.expert as usize, expert);
                prop_assert_eq!(chosen.share, shares[expert] / total);
            }
        }
    }

    #[test]
    fn results_of_an_expert_stand_side_by_side() {
        let chosen = [2, 0, 2, 3, 0, 2].map(|expert| Chosen { expert, ..Chosen::default() });
        let mut routing = Routing { chosen: chosen.to_vec(), ..Routing::default() };
        routing.place(4, 2);
        assert_eq!(routing.starts, [0, 2, 2, 5, 6]);
        assert_eq!(routing.tokens, [0, 2, 0, 1, 2, 1]);
        let places: Vec<u32> = routing.chosen.iter().map(|chosen| chosen.place).collect();
        assert_eq!(places, [2, 0, 3, 5, 1, 4]);
    }
}
