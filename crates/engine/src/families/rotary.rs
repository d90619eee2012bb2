//! Rotary position embedding.
//! Source: Su et al. 2021, "RoFormer".

use std::f64::consts::TAU;

use deft_kernels::Pairs;

/// Scaling of the frequencies for contexts that are longer than those of the original training.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) enum Scaling {
    /// No scaling.
    None,
    /// Positions are divided by this factor. Source: Chen et al. 2023, "Position interpolation".
    Linear(f32),
    /// Low frequencies are scaled, high frequencies are not.
    Yarn(Yarn),
}

/// Source: Peng et al. 2023, "YaRN", section 3.2.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) struct Yarn {
    /// Factor of the context's length.
    pub(super) factor: f32,
    /// Context of the original training.
    pub(super) original: u32,
    /// Pairs with more rotations than this over the original context are not scaled.
    pub(super) fast: f32,
    /// Pairs with fewer rotations than this are scaled by the whole factor.
    pub(super) slow: f32,
}

impl Yarn {
    /// Factor of queries and keys, which compensates for the longer context.
    #[expect(clippy::cast_possible_truncation, reason = "computed wide, used in f32")]
    pub(super) fn magnitude(&self) -> f32 {
        (1.0 + 0.1 * f64::from(self.factor).max(1.0).ln()) as f32
    }

    /// The part of a pair's frequency that is scaled, from 0 to 1.
    fn stretched(&self, pair: f64, dimensions: f64, base: f64) -> f64 {
        let original = f64::from(self.original);
        // The pair with this number of rotations over the original context.
        let turning = |times: f32| {
            dimensions * (original / (f64::from(times) * TAU)).ln() / (2.0 * base.ln())
        };
        let low = turning(self.fast).floor().max(0.0);
        let high = turning(self.slow).ceil().min(dimensions - 1.0);
        ((pair - low) / (high - low).max(0.001)).clamp(0.0, 1.0)
    }
}

/// The frequencies of a layer's rotary embedding.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) struct RotaryPlan {
    pub(super) dimensions: u32,
    pub(super) base: f32,
    pub(super) scaling: Scaling,
    /// Factor of the rotated values.
    pub(super) magnitude: f32,
}

impl RotaryPlan {
    /// Angle per position of each pair: `base^(-2 pair / dimensions)`, after scaling.
    fn frequencies(&self) -> impl Iterator<Item = f64> {
        let (dimensions, base) = (f64::from(self.dimensions), f64::from(self.base));
        (0..self.dimensions / 2).map(move |pair| {
            let pair = f64::from(pair);
            let frequency = base.powf(-2.0 * pair / dimensions);
            match self.scaling {
                Scaling::None => frequency,
                Scaling::Linear(factor) => frequency / f64::from(factor),
                Scaling::Yarn(yarn) => {
                    let stretched = yarn.stretched(pair, dimensions, base);
                    let factor = f64::from(yarn.factor);
                    frequency / factor * stretched + frequency * (1.0 - stretched)
                }
            }
        })
    }
}

/// Rotates pairs of values by their position.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Rotary {
    pairs: Pairs,
    /// Angle per position of each pair.
    frequencies: Vec<f64>,
    magnitude: f32,
}

impl Rotary {
    /// `factors` divide the frequencies, one for each pair.
    pub(super) fn new(pairs: Pairs, plan: RotaryPlan, factors: Option<&[f32]>) -> Self {
        let factor = |pair: usize| factors.map_or(1.0, |factors| f64::from(factors[pair]));
        let frequencies = plan.frequencies().enumerate();
        let frequencies = frequencies.map(|(pair, frequency)| frequency / factor(pair)).collect();
        Self { pairs, frequencies, magnitude: plan.magnitude }
    }

    /// Number of rotated pairs of a head.
    pub(super) fn pairs(&self) -> usize {
        self.frequencies.len()
    }

    /// Which values are pairs.
    pub(super) fn kind(&self) -> Pairs {
        self.pairs
    }

    /// Sine and cosine of each pair at a position.
    pub(super) fn angles(&self, position: usize, out: &mut [f32]) {
        #[expect(clippy::cast_precision_loss, reason = "positions are far below 2^52")]
        let position = position as f64;
        for (out, frequency) in out.as_chunks_mut::<2>().0.iter_mut().zip(&self.frequencies) {
            let (sin, cos) = (position * frequency).sin_cos();
            #[expect(clippy::cast_possible_truncation, reason = "computed wide, used in f32")]
            let angle = [sin as f32 * self.magnitude, cos as f32 * self.magnitude];
            *out = angle;
        }
    }
}

#[cfg(test)]
mod tests {
    use std::num::NonZero;

    use deft_kernels::{Device, Host, Instructions};

    use super::*;

    fn plan(scaling: Scaling) -> RotaryPlan {
        RotaryPlan { dimensions: 64, base: 10_000.0, scaling, magnitude: 1.0 }
    }

    /// Values of an independent computation (numpy, with the paper's formulas): 64 dimensions, base 10,000, factor 4, original
    /// context 2,048, rotations 32 and 1.
    #[test]
    fn yarn_keeps_fast_turns_and_stretches_slow_ones() {
        let yarn = Yarn { factor: 4.0, original: 2048, fast: 32.0, slow: 1.0 };
        let found: Vec<f64> = plan(Scaling::Yarn(yarn)).frequencies().collect();
        let plain: Vec<f64> = plan(Scaling::None).frequencies().collect();
        for (pair, wanted) in YARN {
            let error = (found[pair] - wanted).abs() / wanted;
            assert!(error < 1e-9, "pair {pair}: {} instead of {wanted}", found[pair]);
        }
        assert_eq!(found[0], plain[0]);
        assert!((found[31] - plain[31] / 4.0).abs() < 1e-12);
        assert!((yarn.magnitude() - 1.138_629_4).abs() < 1e-6);
    }

    #[test]
    fn a_turn_keeps_lengths_but_for_the_magnitude() {
        let rotary = Rotary::new(
            Pairs::HalfSplit,
            RotaryPlan { magnitude: 1.5, ..plan(Scaling::Linear(2.0)) },
            None,
        );
        let mut row: Vec<f32> = (0..128).map(|at| (at as f32).sin()).collect();
        let length = |row: &[f32]| row.iter().map(|value| value * value).sum::<f32>().sqrt();
        let before = length(&row);
        let mut angles = vec![0.0; 64];
        rotary.angles(77, &mut angles);
        let host = Host::new(Instructions::best(), NonZero::new(1));
        host.turn(&mut row, 64, rotary.kind(), &angles, 1);
        assert!((length(&row) / before - 1.5).abs() < 1e-5);
    }

    #[test]
    fn factors_divide_the_frequencies_of_their_pairs() {
        let factors: Vec<f32> = (0..32).map(|pair| 1.0 + pair as f32).collect();
        let rotary = Rotary::new(Pairs::HalfSplit, plan(Scaling::None), Some(&factors));
        let plain: Vec<f64> = plan(Scaling::None).frequencies().collect();
        assert!((rotary.frequencies[3] - plain[3] / 4.0).abs() < 1e-15);
    }

    const YARN: [(usize, f64); 4] = [
        (5, 0.23713737056616552),
        (12, 0.024325212770525993),
        (17, 0.0036052606217906527),
        (25, 0.00018747355233311396),
    ];
}
