//! Activations of one or several tokens, in the form a weight type is multiplied with.

use crate::dot::BLOCK;

/// `tokens x width` activations, row-major.
#[derive(Debug, Clone)]
pub enum Activations<'a> {
    /// As they are, for float weights.
    Float {
        /// The values.
        values: &'a [f32],
        /// Values per token.
        width: usize,
    },
    /// In blocks of 32, for weights in blocks: value = scale x quant.
    EightBit {
        /// One byte per value, within -127..=127.
        quants: Vec<i8>,
        /// One scale per block.
        scales: Vec<f32>,
        /// The sums of each 16 quants.
        sums: Vec<i16>,
        /// Values per token, a multiple of 32.
        width: usize,
    },
}

impl<'a> Activations<'a> {
    /// Leaves the values as they are.
    #[must_use]
    pub fn float(values: &'a [f32], width: usize) -> Self {
        Self::Float { values, width }
    }

    /// Rounds the values to eight bits in blocks of 32: scale = largest magnitude / 127, ties to
    /// even. A block with a value that is not finite becomes NaN as a whole, so that it is noticed.
    ///
    /// # Panics
    /// When `width` is not a multiple of 32.
    #[must_use]
    pub fn eight_bit(values: &[f32], width: usize) -> Self {
        assert!(width.is_multiple_of(BLOCK), "rows of {width} values are not whole blocks");
        let mut quants = Vec::with_capacity(values.len());
        let mut scales = Vec::with_capacity(values.len() / BLOCK);
        round(values, &mut quants, &mut scales);
        let half = |half: &[i8; 16]| half.iter().map(|&quant| i16::from(quant)).sum();
        let sums = quants.as_chunks::<16>().0.iter().map(half).collect();
        Self::EightBit { quants, scales, sums, width }
    }

    /// Number of tokens.
    #[must_use]
    pub fn tokens(&self) -> usize {
        match self {
            Self::Float { values, width } => values.len() / width,
            Self::EightBit { quants, width, .. } => quants.len() / width,
        }
    }
}

/// Rounds whole blocks of values into quants and scales, which are emptied before.
pub(crate) fn round(values: &[f32], quants: &mut Vec<i8>, scales: &mut Vec<f32>) {
    quants.clear();
    scales.clear();
    for block in values.as_chunks::<BLOCK>().0 {
        let largest = block.iter().fold(0f32, |largest, value| largest.max(value.abs()));
        let finite = block.iter().all(|value| value.is_finite());
        let inverse = if largest > 0.0 { 127.0 / largest } else { 0.0 };
        scales.push(if finite { largest / 127.0 } else { f32::NAN });
        #[expect(clippy::cast_possible_truncation, reason = "within -127..=127 by the scale")]
        quants.extend(block.iter().map(|value| (value * inverse).round_ties_even() as i8));
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn rounded(values: &[f32]) -> (Vec<i8>, Vec<f32>, Vec<i16>) {
        match Activations::eight_bit(values, values.len()) {
            Activations::EightBit { quants, scales, sums, .. } => (quants, scales, sums),
            Activations::Float { .. } => panic!("they were not rounded"),
        }
    }

    #[test]
    fn a_block_is_scaled_by_its_largest_value_and_ties_go_to_even() {
        let mut values = [0.0; 64];
        (values[0], values[1], values[2]) = (127.0, 2.5, -3.5);
        let (quants, scales, sums) = rounded(&values);
        assert_eq!(quants[..3], [127, 2, -4]);
        assert_eq!(scales, [1.0, 0.0], "the second block is all zero");
        assert_eq!(sums, [125, 0, 0, 0]);
    }

    #[test]
    fn a_value_that_is_no_number_makes_its_block_none() {
        for odd in [f32::NAN, f32::INFINITY, f32::NEG_INFINITY] {
            let mut values = [1.0; 64];
            values[40] = odd;
            let (_, scales, _) = rounded(&values);
            assert!(scales[0].is_finite() && scales[1].is_nan());
        }
    }

    proptest! {
        #[test]
        fn values_come_back_within_half_a_step(values in prop::collection::vec(-1e3f32..1e3, 32)) {
            let (quants, scales, sums) = rounded(&values);
            for (value, quant) in values.iter().zip(&quants) {
                let error = (value - f32::from(*quant) * scales[0]).abs();
                prop_assert!(error <= scales[0] * 0.5001);
            }
            let half = |half: &[i8]| half.iter().map(|&quant| i16::from(quant)).sum::<i16>();
            prop_assert_eq!(sums, [half(&quants[..16]), half(&quants[16..])]);
        }
    }
}
