use std::num::NonZero;

use deft_formats::quant::TensorType;
use proptest::prelude::*;

use super::*;
use crate::Team;
use crate::matrix::multiply;
use crate::matrix::tests::words;
use crate::tiles::brain;
use crate::tiles::tests::one_sum;

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]

    #[test]
    fn a_product_is_summed_in_the_documented_order(
        rows in 1usize..40,
        columns in 1usize..150,
        tokens in 1usize..40,
        small in any::<bool>(),
        seed in any::<u32>(),
    ) {
        // Ordinary numbers, or numbers whose products are subnormal.
        let exponent = |word: u32| if small { 40 + word % 60 } else { 120 + word % 10 };
        let number = |word: u32| f32::from_bits(word & 0x807F_FFFF | exponent(word >> 8) << 23);
        let numbers = |count: usize, seed: u32| -> Vec<f32> {
            words(count, seed).into_iter().map(number).collect()
        };
        let weights = numbers(rows * columns, seed);
        let stored: Vec<u8> = weights.iter().flat_map(|value| brain(*value).to_le_bytes()).collect();
        let x = numbers(tokens * columns, seed ^ 0x5555);
        let matrix = Matrix { tensor_type: TensorType::BF16, rows, columns, bytes: &stored[..] };
        let team = Team::new(NonZero::new(2));
        for path in Instructions::available().filter(|path| path.class() == crate::Class::Bf16) {
            let mut activations = Activations::default();
            activations.prepare(path, &team, matrix.tensor_type, &x, columns);
            let mut out = vec![f32::NAN; tokens * rows];
            multiply(path, &team, matrix, &activations, &mut out);
            for (token, x) in x.chunks(columns).enumerate() {
                for (row, weights) in weights.chunks(columns).enumerate() {
                    let (found, expected) = (out[token * rows + row], one_sum(0.0, weights, x));
                    prop_assert_eq!(found.to_bits(), expected.to_bits(), "{} {} {}", path, row, token);
                }
            }
        }
    }
}

/// Compares the rounding errors of eight bits and of tiles with double precision.
#[test]
fn rounding_to_tiles_costs_less_than_half_of_rounding_to_eight_bits() {
    let (rows, columns) = (64, 1024);
    let team = Team::new(NonZero::new(1));
    let bytes: Vec<u8> = words(rows * columns / 32 * 9, 3)
        .chunks(9)
        .flat_map(|block| {
            let scale = half::f16::from_f32(0.01 + (block[0] % 64) as f32 / 4096.0);
            let quants = block[1..].iter().flat_map(|word| word.to_le_bytes());
            scale.to_le_bytes().into_iter().chain(quants).collect::<Vec<u8>>()
        })
        .collect();
    // Nearly a normal distribution, like real activations.
    let uniform = |word: &u32| *word as f32 / u32::MAX as f32 - 0.5;
    let x: Vec<f32> =
        words(12 * columns, 9).chunks(12).map(|words| words.iter().map(uniform).sum()).collect();
    let matrix = Matrix { tensor_type: TensorType::Q8_0, rows, columns, bytes: &bytes[..] };
    let error = |path: Instructions| {
        let mut activations = Activations::default();
        activations.prepare(path, &team, matrix.tensor_type, &x, columns);
        let mut out = vec![0.0; rows];
        multiply(path, &team, matrix, &activations, &mut out);
        let squares: f64 = out
            .iter()
            .zip(bytes.chunks(matrix.tensor_type.row_bytes(columns)))
            .map(|(found, stored)| {
                let mut weights = vec![0.0; columns];
                matrix.tensor_type.decode(stored, &mut weights);
                let terms = weights.iter().zip(&x).map(|(w, x)| f64::from(*w) * f64::from(*x));
                let (sum, norm) =
                    terms.fold((0.0, 0.0), |(sum, norm), term| (sum + term, norm + term * term));
                (f64::from(*found) - sum).powi(2) / norm
            })
            .sum();
        (squares / rows as f64).sqrt()
    };
    let (eighths, tiles) = (error(Instructions::Scalar), error(Instructions::AmxSimulated));
    assert!(tiles > 0.0 && tiles < eighths / 2.0, "{tiles:e} and {eighths:e}");
    // The bounds that docs/NUMERICS.md states.
    assert!(tiles < 3e-3 && eighths < 8e-3, "{tiles:e} and {eighths:e}");
}
