//! The feed-forward part of a layer: a gated one, or experts chosen by a router.

use deft_kernels::{Destination, Device, GateCurve};

use super::buffers::Buffers;
use super::home::Home;
use super::tensors::MatrixPlace;

/// The matrices of a gated feed-forward part: gate, up and down.
pub(super) struct Gated {
    pub(super) gate: MatrixPlace,
    pub(super) up: MatrixPlace,
    pub(super) down: MatrixPlace,
}

/// The feed-forward part of a layer.
pub(super) enum FeedForward {
    /// One gated part for all tokens.
    Dense(Gated),
    /// Experts, which a router chooses for each token.
    Experts(Experts),
}

/// Experts: gated parts, of which a router chooses some for each token.
pub(super) struct Experts {
    pub(super) router: MatrixPlace,
    pub(super) experts: Vec<Gated>,
    /// Number of experts of a token.
    pub(super) used: usize,
}

impl FeedForward {
    /// Numbers of all experts and of those of a token.
    pub(super) fn experts(&self) -> (u32, u32) {
        let count = |count: usize| u32::try_from(count).unwrap_or(u32::MAX);
        match self {
            Self::Dense(_) => (0, 0),
            Self::Experts(found) => (count(found.experts.len()), count(found.used)),
        }
    }

    /// Computes the normed states of a step, in place.
    pub(super) fn compute<H: Home>(
        &self,
        home: &H,
        device: &H::Device,
        curve: GateCurve,
        (tokens, buffers): (usize, &mut Buffers<H::Device>),
    ) {
        match self {
            Self::Dense(part) => {
                let Buffers { normed, gate, up, activations, .. } = buffers;
                part.open(home, device, curve, tokens, normed, (gate, up), activations);
                device.multiply(gate, [(part.down.of(home), normed.into())], activations);
            }
            Self::Experts(experts) => experts.compute(home, device, curve, tokens, buffers),
        }
    }
}

impl Gated {
    /// `inner = curve(gate . x) * (up . x)`.
    #[expect(clippy::too_many_arguments, reason = "what it is computed from")]
    fn open<H: Home>(
        &self,
        home: &H,
        device: &H::Device,
        curve: GateCurve,
        tokens: usize,
        x: &<H::Device as Device>::Numbers,
        (inner, up): (&mut <H::Device as Device>::Numbers, &mut <H::Device as Device>::Numbers),
        activations: &mut <H::Device as Device>::Activations,
    ) {
        let width = self.gate.row_count();
        device.size(inner, tokens * width);
        device.size(up, tokens * width);
        let products =
            [(self.gate.of(home), (&mut *inner).into()), (self.up.of(home), (&mut *up).into())];
        device.multiply(x, products, activations);
        device.gate(curve, inner, up, width);
    }
}

impl Experts {
    /// Computes each token with its likeliest experts, weighted by their shares, which are scaled to a sum of one.
    /// Source: Shazeer et al. 2017.
    ///
    /// Each expert is computed for all tokens that chose it. Results are added in the order of the shares, so that the other
    /// tokens of a step do not change any bit.
    fn compute<H: Home>(
        &self,
        home: &H,
        device: &H::Device,
        curve: GateCurve,
        tokens: usize,
        buffers: &mut Buffers<H::Device>,
    ) {
        let width = self.experts[0].down.row_count();
        let Buffers { normed, gate, up, gathered, activations, routing, .. } = buffers;
        device.choose(normed, self.router.of(home), routing, activations);
        routing.place(self.experts.len());
        device.size(&mut routing.results, tokens * self.used * width);
        for (expert, part) in self.experts.iter().enumerate() {
            let own = routing.starts[expert] as usize..routing.starts[expert + 1] as usize;
            if own.is_empty() {
                continue;
            }
            let x = if own.len() == tokens {
                &*normed
            } else {
                device.size(gathered, own.len() * width);
                device.gather(normed, &routing.rows[own.clone()], width, gathered);
                &*gathered
            };
            part.open(home, device, curve, own.len(), x, (gate, up), activations);
            let place = Destination { numbers: &mut routing.results, from: own.start * width };
            device.multiply(gate, [(part.down.of(home), place)], activations);
        }
        device.combine(routing, width, normed);
    }
}
