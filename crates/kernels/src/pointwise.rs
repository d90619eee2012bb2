//! Norms, gates and sums, one token at a time.

use crate::curve::{exp, tanh};
use crate::matrix::{PARTIALS, tree};
use crate::on_every_path;

on_every_path! {
    /// Root-mean-square norm of each row of `x` (rows of `weight.len()` values) into `out`.
    /// Source: Zhang and Sennrich, "Root Mean Square Layer Normalization".
    pub(crate) fn rms_norm(x: &[f32], weight: &[f32], epsilon: f32, out: &mut [f32]) = plain_rms_norm;
    /// The same in place.
    pub(crate) fn rms_norm_in_place(x: &mut [f32], weight: &[f32], epsilon: f32) = plain_rms_norm_in_place;
    /// Rotates pairs of values of every head of a row (`head_length` values a head) by a sine and a cosine for each pair.
    /// Source: Su et al. 2021, "RoFormer".
    pub(crate) fn turn(row: &mut [f32], head_length: usize, pairs: Pairs, angles: &[f32]) = plain_turn;
    /// Norm of each row of `x` (rows of `weight.len()` values) to mean 0 and variance 1, then weight and
    /// bias, in place. Source: Ba et al. 2016, "Layer Normalization".
    pub(crate) fn layer_norm(x: &mut [f32], weight: &[f32], bias: &[f32], epsilon: f32) = plain_layer_norm;
    /// The largest number; minus infinity if there is none.
    pub fn largest(values: &[f32]) -> f32 = plain_largest;
    /// The sum, in the order of all sums of this crate.
    pub fn sum(values: &[f32]) -> f32 = plain_sum;
    /// Softmax in place; an empty slice stays empty.
    pub fn softmax(values: &mut [f32]) = plain_softmax;
    /// `gate = curve(gate) * up`, element by element.
    pub(crate) fn gate(curve: GateCurve, gate: &mut [f32], up: &[f32]) = plain_gate;
    /// The Gaussian error unit by the error function, element by element. Source: Hendrycks and Gimpel 2016.
    pub(crate) fn gelu_erf(values: &mut [f32]) = plain_gelu_erf;
    /// `x = cap * tanh(x / cap)`, element by element.
    pub(crate) fn soft_cap(values: &mut [f32], cap: f32) = plain_soft_cap;
    /// `x += y`, element by element.
    pub(crate) fn add(x: &mut [f32], y: &[f32]) = plain_add;
    /// Adds `y` to each row of `x`.
    pub(crate) fn add_rows(x: &mut [f32], y: &[f32]) = plain_add_rows;
    /// `x += weight * y`, element by element, fused.
    pub(crate) fn add_scaled(x: &mut [f32], weight: f32, y: &[f32]) = plain_add_scaled;
}

/// The activation function of a gate.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum GateCurve {
    /// `x * sigmoid(x)`. Source: Elfwing et al. 2017.
    Silu,
    /// The Gaussian error unit in its tanh form. Source: Hendrycks and Gimpel 2016.
    GeluTanh,
}

/// Which values of a head are rotated as pairs.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Pairs {
    /// Neighbours: 0 and 1, 2 and 3.
    Interleaved,
    /// The first half with the second.
    HalfSplit,
}

/// Sum in the documented order: element `i` is added to partial sum `i mod 16`; at the end the tree adds these up.
#[inline(always)]
fn ordered_sum(values: &[f32], term: impl Fn(f32) -> f32) -> f32 {
    let mut partials = [0f32; PARTIALS];
    let (whole, rest) = values.as_chunks::<PARTIALS>();
    for values in whole {
        for (partial, value) in partials.iter_mut().zip(values) {
            *partial += term(*value);
        }
    }
    for (partial, value) in partials.iter_mut().zip(rest) {
        *partial += term(*value);
    }
    tree(&partials)
}

#[inline(always)]
fn plain_sum(values: &[f32]) -> f32 {
    ordered_sum(values, |value| value)
}

#[inline(always)]
fn plain_largest(values: &[f32]) -> f32 {
    // NaN does not count.
    let larger = |a: f32, b: f32| if b > a { b } else { a };
    let mut lanes = [f32::NEG_INFINITY; PARTIALS];
    let (whole, rest) = values.as_chunks::<PARTIALS>();
    for values in whole {
        lanes.iter_mut().zip(values).for_each(|(lane, value)| *lane = larger(*lane, *value));
    }
    lanes.iter().chain(rest).copied().fold(f32::NEG_INFINITY, larger)
}

/// The factor that makes the mean square of a row 1.
#[inline(always)]
#[expect(clippy::cast_precision_loss, reason = "widths are far below 2^24")]
fn inverse(row: &[f32], epsilon: f32) -> f32 {
    let mean = ordered_sum(row, |value| value * value) / row.len() as f32;
    1.0 / (mean + epsilon).sqrt()
}

#[inline(always)]
fn plain_rms_norm_in_place(x: &mut [f32], weight: &[f32], epsilon: f32) {
    for row in x.chunks_mut(weight.len()) {
        let inverse = inverse(row, epsilon);
        for (value, weight) in row.iter_mut().zip(weight) {
            *value = *value * inverse * weight;
        }
    }
}

#[inline(always)]
fn plain_turn(row: &mut [f32], head_length: usize, pairs: Pairs, angles: &[f32]) {
    let angles = angles.as_chunks::<2>().0;
    let turned = |a: f32, b: f32, [sin, cos]: [f32; 2]| (a * cos - b * sin, a * sin + b * cos);
    for head in row.chunks_mut(head_length) {
        match pairs {
            Pairs::Interleaved => {
                for ([a, b], angle) in head.as_chunks_mut::<2>().0.iter_mut().zip(angles) {
                    (*a, *b) = turned(*a, *b, *angle);
                }
            }
            Pairs::HalfSplit => {
                let (first, second) = head.split_at_mut(angles.len());
                for ((a, b), angle) in first.iter_mut().zip(second).zip(angles) {
                    (*a, *b) = turned(*a, *b, *angle);
                }
            }
        }
    }
}

#[inline(always)]
fn plain_rms_norm(x: &[f32], weight: &[f32], epsilon: f32, out: &mut [f32]) {
    for (row, out) in x.chunks(weight.len()).zip(out.chunks_mut(weight.len())) {
        let inverse = inverse(row, epsilon);
        for ((out, value), weight) in out.iter_mut().zip(row).zip(weight) {
            *out = value * inverse * weight;
        }
    }
}

#[inline(always)]
#[expect(clippy::cast_precision_loss, reason = "widths are far below 2^24")]
fn plain_layer_norm(x: &mut [f32], weight: &[f32], bias: &[f32], epsilon: f32) {
    for row in x.chunks_mut(weight.len()) {
        let count = weight.len() as f32;
        let mean = ordered_sum(row, |value| value) / count;
        let variance = ordered_sum(row, |value| (value - mean) * (value - mean)) / count;
        let inverse = 1.0 / (variance + epsilon).sqrt();
        for ((value, weight), bias) in row.iter_mut().zip(weight).zip(bias) {
            *value = (*value - mean) * inverse * weight + bias;
        }
    }
}

#[inline(always)]
fn plain_softmax(values: &mut [f32]) {
    let largest = plain_largest(values);
    for value in &mut *values {
        *value = exp(*value - largest);
    }
    let inverse = 1.0 / plain_sum(values);
    for value in values {
        *value *= inverse;
    }
}

#[inline(always)]
fn plain_gate(curve: GateCurve, gate: &mut [f32], up: &[f32]) {
    const SQRT_2_OVER_PI: f32 = 0.797_884_6;
    match curve {
        GateCurve::Silu => {
            for (x, up) in gate.iter_mut().zip(up) {
                *x = *x / (1.0 + exp(-*x)) * up;
            }
        }
        GateCurve::GeluTanh => {
            for (x, up) in gate.iter_mut().zip(up) {
                let inner = SQRT_2_OVER_PI * (*x + 0.044_715 * *x * *x * *x);
                *x = 0.5 * *x * (1.0 + tanh(inner)) * up;
            }
        }
    }
}

#[inline(always)]
fn plain_gelu_erf(values: &mut [f32]) {
    for value in values {
        *value = 0.5 * *value * (1.0 + erf(*value * std::f32::consts::FRAC_1_SQRT_2));
    }
}

/// The error function, within 2e-7 (1.5e-7 and rounding). Source: Hastings in Abramowitz and Stegun 1964, 7.1.26.
#[inline(always)]
fn erf(x: f32) -> f32 {
    const POWERS: [f32; 5] = [1.061_405_4, -1.453_152, 1.421_413_7, -0.284_496_74, 0.254_829_6];
    let size = x.abs();
    let t = 1.0 / (1.0 + 0.327_591_1 * size);
    let sum = POWERS.iter().fold(0.0, |sum, power| sum * t + power) * t;
    (1.0 - sum * exp(-size * size)).copysign(x)
}

#[inline(always)]
fn plain_soft_cap(values: &mut [f32], cap: f32) {
    for value in values {
        *value = cap * tanh(*value / cap);
    }
}

#[inline(always)]
fn plain_add_rows(x: &mut [f32], y: &[f32]) {
    x.chunks_mut(y.len()).for_each(|row| plain_add(row, y));
}

#[inline(always)]
fn plain_add(x: &mut [f32], y: &[f32]) {
    for (x, y) in x.iter_mut().zip(y) {
        *x += y;
    }
}

#[inline(always)]
fn plain_add_scaled(x: &mut [f32], weight: f32, y: &[f32]) {
    for (x, y) in x.iter_mut().zip(y) {
        *x = weight.mul_add(*y, *x);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Instructions;

    const HERE: Instructions = Instructions::Scalar;

    fn close(found: &[f32], wanted: &[f32]) {
        assert_eq!(found.len(), wanted.len());
        for (found, wanted) in found.iter().zip(wanted) {
            let allowed = 1e-6 * wanted.abs().max(1.0);
            assert!((found - wanted).abs() < allowed, "{found} instead of {wanted}");
        }
    }

    #[test]
    fn norms_take_each_row_alone() {
        let x = [3.0, 4.0, 0.0, 0.0, 1.0, 1.0, 1.0, 1.0];
        let weight = [1.0, 2.0, 1.0, 1.0];
        let mut out = [0.0; 8];
        rms_norm(HERE, &x, &weight, 0.0, &mut out);
        close(&out, &[1.2, 3.2, 0.0, 0.0, 1.0, 2.0, 1.0, 1.0]);
        let mut centred = [1.0, 2.0, 3.0, 4.0];
        layer_norm(HERE, &mut centred, &[1.0, 1.0, 1.0, 2.0], &[0.0, 0.0, 0.0, 0.5], 0.0);
        let step = 1.0 / 1.25f32.sqrt();
        close(&centred, &[-1.5 * step, -0.5 * step, 0.5 * step, 3.0 * step + 0.5]);
    }

    /// Rows of 37 values do not fill whole registers; heads of 38 rotate 16 pairs and leave six values unchanged.
    #[test]
    fn norms_in_place_and_turns_give_the_same_bits_on_every_path() {
        let x: Vec<f32> = (0..4 * 37).map(|at| (at as f32 * 0.7).sin()).collect();
        let weight: Vec<f32> = (0..37).map(|at| 0.5 + at as f32 / 37.0).collect();
        let angles: Vec<f32> =
            (0..16).flat_map(|at| <[f32; 2]>::from((at as f32).sin_cos())).collect();
        let bits =
            |values: &[f32]| values.iter().map(|value| value.to_bits()).collect::<Vec<u32>>();
        let row: Vec<f32> = (0..76).map(|at| (at as f32 * 0.3).cos()).collect();
        let turned = |path, pairs| {
            let mut row = row.clone();
            turn(path, &mut row, 38, pairs, &angles);
            row
        };
        for path in Instructions::available() {
            let mut out = vec![f32::NAN; x.len()];
            rms_norm(path, &x, &weight, 1e-5, &mut out);
            let mut in_place = x.clone();
            rms_norm_in_place(path, &mut in_place, &weight, 1e-5);
            assert_eq!(bits(&in_place), bits(&out), "{path}");
            for pairs in [Pairs::Interleaved, Pairs::HalfSplit] {
                let found = turned(path, pairs);
                assert_eq!(bits(&found), bits(&turned(HERE, pairs)), "{path}, {pairs:?}");
                for head in [0, 38] {
                    assert_eq!(found[head + 32..head + 38], row[head + 32..head + 38]);
                    // The second pair: its position depends on the pairing.
                    let (a, b) = if pairs == Pairs::HalfSplit { (1, 17) } else { (2, 3) };
                    let (sin, cos) = 1f32.sin_cos();
                    let (first, second) = (row[head + a], row[head + b]);
                    close(
                        &[found[head + a], found[head + b]],
                        &[first * cos - second * sin, first * sin + second * cos],
                    );
                }
            }
        }
    }

    #[test]
    fn the_largest_and_the_sum_of_many_and_of_few() {
        let values: Vec<f32> = (0..37u8).map(|at| f32::from(at * 7 % 37) - 40.0).collect();
        assert_eq!((largest(HERE, &values), sum(HERE, &values)), (-4.0, -814.0));
        assert_eq!((largest(HERE, &values[..1]), sum(HERE, &values[..1])), (-40.0, -40.0));
        assert_eq!((largest(HERE, &[]), sum(HERE, &[])), (f32::NEG_INFINITY, 0.0));
    }

    #[test]
    fn softmax_sums_to_one_and_survives_large_values() {
        let mut values = [1000.0, 1001.0, 999.0];
        softmax(HERE, &mut values);
        close(&values, &[0.244_728_47, 0.665_240_9, 0.090_030_57]);
        let mut none: [f32; 0] = [];
        softmax(HERE, &mut none);
        let mut one = [-7.0];
        softmax(HERE, &mut one);
        close(&one, &[1.0]);
    }

    /// Values of an independent computation in double precision.
    #[test]
    fn curves_have_their_values() {
        let mut silu = [-1.0, 0.0, 2.0];
        gate(HERE, GateCurve::Silu, &mut silu, &[1.0, 1.0, 3.0]);
        close(&silu, &[-0.268_941_42, 0.0, 3.0 * 1.761_594_2]);
        let mut tanh = [-1.0, 0.0, 2.0];
        gate(HERE, GateCurve::GeluTanh, &mut tanh, &[1.0; 3]);
        close(&tanh, &[-0.158_808, 0.0, 1.954_597_7]);
        let mut erf = [-1.0, 0.0, 2.0];
        gelu_erf(HERE, &mut erf);
        close(&erf, &[-0.158_655_26, 0.0, 1.954_499_7]);
        for at in -60..60i16 {
            let x = f32::from(at) * 0.1;
            let exact = libm::erf(f64::from(x));
            assert!((f64::from(super::erf(x)) - exact).abs() < 3e-7, "erf of {x}");
        }
        let mut capped = [100.0, -1.0];
        soft_cap(HERE, &mut capped, 30.0);
        close(&capped, &[29.923_738, -0.999_629_9]);
    }

    #[test]
    fn values_that_are_no_numbers_stay_visible() {
        let mut out = [0.0; 2];
        rms_norm(HERE, &[f32::NAN, 1.0], &[1.0, 1.0], 1e-5, &mut out);
        assert!(out.iter().all(|value| value.is_nan()));
        let mut values = [f32::NAN, 1.0];
        softmax(HERE, &mut values);
        assert!(values.iter().all(|value| value.is_nan()));
    }

    #[test]
    fn a_vector_is_added_to_every_row() {
        let mut rows = [1.0, 2.0, 3.0, 4.0];
        add_rows(HERE, &mut rows, &[10.0, 20.0]);
        close(&rows, &[11.0, 22.0, 13.0, 24.0]);
    }

    type Step<'a> = &'a dyn Fn(&mut [f32]);

    proptest::proptest! {
        #[test]
        fn every_path_agrees_with_the_scalar_twin_bit_for_bit(
            pairs in proptest::collection::vec((-60f32..60.0, -3f32..3.0), 1..150),
        ) {
            let (x, y): (Vec<f32>, Vec<f32>) = pairs.into_iter().unzip();
            let all = |path: Instructions| {
                let mut results = vec![vec![0.0; x.len()]];
                rms_norm(path, &x, &y, 1e-5, &mut results[0]);
                let steps: [Step<'_>; 10] = [
                    &|own| own[0] = largest(path, &y) + sum(path, &y),
                    &|own| gelu_erf(path, own),
                    &|own| layer_norm(path, own, &y, &y, 1e-5),
                    &|own| softmax(path, own),
                    &|own| gate(path, GateCurve::Silu, own, &y),
                    &|own| gate(path, GateCurve::GeluTanh, own, &y),
                    &|own| soft_cap(path, own, 30.0),
                    &|own| add(path, own, &y),
                    &|own| add_rows(path, own, &y),
                    &|own| add_scaled(path, own, 0.3, &y),
                ];
                for step in steps {
                    let mut own = x.clone();
                    step(&mut own);
                    results.push(own);
                }
                let bits = |values: Vec<f32>| values.into_iter().map(f32::to_bits).collect();
                results.into_iter().map(bits).collect::<Vec<Vec<u32>>>()
            };
            let twin = all(Instructions::Scalar);
            for path in Instructions::available() {
                proptest::prop_assert_eq!(&all(path), &twin);
            }
        }
    }
}
