//! Activations of one or several tokens, in the form a weight type is multiplied with.

use deft_formats::quant::{GROUP, STRIP, STRIP_GROUPS, TensorType};

use crate::matrix::form::Form;
use crate::on_every_path;
use crate::{Path, Team};

/// Dot instructions that a strip takes: each multiplies four values of all sixteen groups.
const STEPS: usize = STRIP / 64;
/// Added and taken away again it rounds to a whole number, ties to even; its bits then end in that
/// number.
const ROUNDING: f32 = 12_582_912.0;
/// Tokens that a thread rounds at a time.
const GRAIN: usize = 4;

/// 512 activations of a token in eight bits, for weights of one [`Form`]; a row's last strip is filled
/// up with zeros.
#[derive(Debug, Clone)]
#[repr(C, align(64))]
pub(crate) struct Eighths {
    /// Within -127..=127; group by group, or four of each group in turn.
    pub(crate) quants: [i8; STRIP],
    /// Value = scale x quant.
    pub(crate) scales: [f32; STRIP_GROUPS],
    /// Minus the weights' offset times the sum of quants: of groups, or of both halves of groups. What
    /// an integer sum of stored quants begins with.
    pub(crate) starts: [[i32; STRIP_GROUPS]; 2],
    /// Sum of quants times scale, likewise: what is multiplied with minima.
    pub(crate) lows: [[f32; STRIP_GROUPS]; 2],
}

impl Default for Eighths {
    fn default() -> Self {
        Self {
            quants: [0; STRIP],
            scales: [0.0; STRIP_GROUPS],
            starts: [[0; STRIP_GROUPS]; 2],
            lows: [[0.0; STRIP_GROUPS]; 2],
        }
    }
}

/// `tokens x width` activations as a type of weights is multiplied with: floats as they are, blocks with
/// activations in eight bits. Reused from product to product.
#[derive(Debug, Default)]
pub struct Activations {
    pub(crate) floats: Vec<f32>,
    pub(crate) strips: Vec<Eighths>,
    pub(crate) tokens: usize,
    pub(crate) width: usize,
    /// None for floats.
    pub(crate) form: Option<Form>,
    pub(crate) interleaved: bool,
}

impl Activations {
    /// Room for so many tokens of such a width, so that preparing them takes no memory any more.
    #[must_use]
    pub fn with_room(tokens: usize, width: usize) -> Self {
        let strips = vec![Eighths::default(); tokens * width.div_ceil(STRIP)];
        Self { strips, ..Self::default() }
    }

    /// Takes values (`tokens x width`) for weights of a type.
    ///
    /// In eight bits they are rounded in blocks of 32: scale = largest magnitude / 127, ties to even. A
    /// block with a value that is not finite becomes NaN as a whole, so that it is noticed.
    ///
    /// # Panics
    /// When the type has blocks and `width` is not a multiple of 32.
    pub fn prepare(
        &mut self,
        path: Path,
        team: &Team,
        tensor_type: TensorType,
        values: &[f32],
        width: usize,
    ) {
        (self.tokens, self.width) = (values.len() / width, width);
        self.form = Form::of(tensor_type);
        let Some(form) = self.form else {
            self.floats.clear();
            self.floats.extend_from_slice(values);
            return;
        };
        assert!(width.is_multiple_of(GROUP), "rows of {width} values are not whole blocks");
        self.interleaved = path == Path::Avx512 && self.tokens > 1;
        let (interleaved, strips) = (self.interleaved, width.div_ceil(STRIP));
        self.strips.resize(self.tokens * strips, Eighths::default());
        let places = crate::team::Places::new(&mut self.strips, strips);
        team.each(self.tokens, GRAIN, |_, tokens| {
            for token in tokens {
                let row = &values[token * width..][..width];
                // SAFETY: a token is given to one thread once.
                let strips = unsafe { places.take(token) };
                round_row(path, row, form, interleaved, strips);
            }
        });
    }

    /// Whether what was taken last can be multiplied with another type as it is.
    #[must_use]
    pub fn fits(&self, tensor_type: TensorType) -> bool {
        self.form == Form::of(tensor_type)
    }

    /// A token's strips.
    pub(crate) fn of(&self, token: usize) -> &[Eighths] {
        let strips = self.width.div_ceil(STRIP);
        &self.strips[token * strips..][..strips]
    }
}

on_every_path! {
    fn round_row(values: &[f32], form: Form, interleaved: bool, strips: &mut [Eighths]) = round_row_plain;
}

#[inline(always)]
fn round_row_plain(values: &[f32], form: Form, interleaved: bool, strips: &mut [Eighths]) {
    for (values, strip) in values.chunks(STRIP).zip(strips) {
        let (blocks, _) = values.as_chunks::<GROUP>();
        for group in 0..STRIP_GROUPS {
            let mut quants = [0; GROUP];
            let scale = match blocks.get(group) {
                Some(block) => round_block(block, &mut quants),
                None => 0.0,
            };
            strip.scales[group] = scale;
            let half = |half: usize| -> i32 {
                quants[half * 16..][..16].iter().map(|&quant| i32::from(quant)).sum()
            };
            let sums = if form.halves { [half(0), half(1)] } else { [half(0) + half(1), 0] };
            for (at, sum) in sums.into_iter().enumerate() {
                strip.starts[at][group] = -i32::from(form.offset) * sum;
                #[expect(clippy::cast_precision_loss, reason = "at most 32 x 127")]
                let sum = sum as f32;
                strip.lows[at][group] = scale * sum;
            }
            if interleaved {
                for step in 0..STEPS {
                    let four = &quants[step * 4..][..4];
                    strip.quants[step * 64 + group * 4..][..4].copy_from_slice(four);
                }
            } else {
                strip.quants[group * GROUP..][..GROUP].copy_from_slice(&quants);
            }
        }
    }
}

/// Rounds a block; returns its scale.
#[inline(always)]
fn round_block(block: &[f32; GROUP], quants: &mut [i8; GROUP]) -> f32 {
    let mut largest = [0f32; 16];
    let mut finite = true;
    for half in block.as_chunks::<16>().0 {
        for (largest, value) in largest.iter_mut().zip(half) {
            let value = value.abs();
            *largest = if value > *largest { value } else { *largest };
            finite &= value < f32::INFINITY;
        }
    }
    let mut width = 8;
    while width > 0 {
        for at in 0..width {
            let other = largest[at + width];
            largest[at] = if other > largest[at] { other } else { largest[at] };
        }
        width /= 2;
    }
    let largest = largest[0];
    let inverse = if largest > 0.0 { 127.0 / largest } else { 0.0 };
    for (quant, value) in quants.iter_mut().zip(block) {
        let whole = (value * inverse + ROUNDING).to_bits();
        // The low byte of the bits is the number's own.
        #[expect(clippy::cast_possible_truncation, reason = "within -127..=127 by the scale")]
        let whole = whole as u8;
        *quant = whole.cast_signed();
    }
    if finite { largest / 127.0 } else { f32::NAN }
}

#[cfg(test)]
mod tests {
    use std::num::NonZero;

    use proptest::prelude::*;

    use super::*;

    fn rounded(values: &[f32]) -> (Vec<i8>, Vec<f32>) {
        let team = Team::new(NonZero::new(1));
        let mut results = Path::available().map(|path| {
            let mut x = Activations::default();
            x.prepare(path, &team, TensorType::Q8_0, values, values.len());
            let strip = &x.of(0)[0];
            let groups = values.len() / GROUP;
            (strip.quants[..values.len()].to_vec(), strip.scales[..groups].to_vec())
        });
        let first = results.next().unwrap();
        let bits = |scales: &[f32]| scales.iter().map(|scale| scale.to_bits()).collect::<Vec<_>>();
        assert!(results.all(|other| other.0 == first.0 && bits(&other.1) == bits(&first.1)));
        first
    }

    #[test]
    fn a_block_is_scaled_by_its_largest_value_and_ties_go_to_even() {
        let mut values = [0.0; 64];
        (values[0], values[1], values[2]) = (127.0, 2.5, -3.5);
        let (quants, scales) = rounded(&values);
        assert_eq!(quants[..3], [127, 2, -4]);
        assert_eq!(scales, [1.0, 0.0], "the second block is all zero");
    }

    #[test]
    fn a_value_that_is_no_number_makes_its_block_none() {
        for odd in [f32::NAN, f32::INFINITY, f32::NEG_INFINITY] {
            let mut values = [1.0; 64];
            values[40] = odd;
            let (_, scales) = rounded(&values);
            assert!(scales[0].is_finite() && scales[1].is_nan());
        }
    }

    #[test]
    fn strips_tell_sums_for_offsets_and_minima() {
        let team = Team::new(None);
        let values: Vec<f32> = (0..3 * 96).map(|at| (at as f32 * 0.37).sin() * 5.0).collect();
        for path in Path::available() {
            let mut x = Activations::default();
            for tensor_type in [TensorType::Q8_0, TensorType::Q6_K] {
                x.prepare(path, &team, tensor_type, &values, 96);
                let (quants, scales) = rounded(&values[96..192]);
                let strip = &x.of(1)[0];
                assert_eq!(strip.scales[..3], scales);
                assert_eq!(strip.scales[3..], [0.0; 13]);
                let sum = |from: usize, to: usize| -> i32 {
                    quants[from..to].iter().map(|&quant| i32::from(quant)).sum()
                };
                if tensor_type == TensorType::Q6_K {
                    assert_eq!(strip.starts[1][2], -32 * sum(80, 96));
                    assert_eq!(strip.lows[0][1], scales[1] * sum(32, 48) as f32);
                } else {
                    assert_eq!(strip.starts[0][2], -128 * sum(64, 96));
                }
                let place = |group: usize, at: usize| match x.interleaved {
                    true => at / 4 * 64 + group * 4 + at % 4,
                    false => group * GROUP + at,
                };
                assert!((0..96).all(|at| strip.quants[place(at / 32, at % 32)] == quants[at]));
            }
        }
    }

    proptest! {
        #[test]
        fn values_come_back_within_half_a_step(values in prop::collection::vec(-1e3f32..1e3, 32)) {
            let (quants, scales) = rounded(&values);
            for (value, quant) in values.iter().zip(&quants) {
                let error = (value - f32::from(*quant) * scales[0]).abs();
                prop_assert!(error <= scales[0] * 0.5001);
            }
        }
    }
}
