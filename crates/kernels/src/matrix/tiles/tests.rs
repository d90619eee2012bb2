use std::num::NonZero;

use deft_formats::quant::TensorType;
use proptest::prelude::*;

use super::*;
use crate::Team;
use crate::matrix::multiply;
use crate::matrix::tests::words;

#[test]
fn values_are_rounded_to_the_nearest_and_ties_to_even() {
    let to = |value: f32| f32::from_bits(u32::from(brain(value)) << 16);
    assert_eq!(to(1.0), 1.0);
    let step = 2f32.powi(-7);
    assert_eq!(to(1.0 + 0.49 * step), 1.0);
    assert_eq!(to(1.0 + 0.5 * step), 1.0, "a tie goes to the even one below");
    assert_eq!(to(1.0 + 1.5 * step), 1.0 + 2.0 * step, "and to the even one above");
    assert_eq!(to(-1.0 - 0.51 * step), -1.0 - step);
    assert_eq!(to(f32::MAX), f32::INFINITY, "it is nearer than the largest number");
    assert_eq!(to(f32::NEG_INFINITY), f32::NEG_INFINITY);
    for bits in [0x7F80_0001, 0x7FFF_FFFF, 0xFF80_0001, 0xFFFF_FFFF] {
        assert!(to(f32::from_bits(bits)).is_nan(), "{bits:08x}");
    }
    let smaller = f32::MIN_POSITIVE.next_down();
    assert_eq!(to(smaller).to_bits(), 0, "it would be rounded to a normal number");
    assert_eq!(to(-smaller).to_bits(), 0x8000_0000, "and keeps its sign");
    assert_eq!(to(f32::MIN_POSITIVE), f32::MIN_POSITIVE);
}

/// What a tile does to one sum, in the words of the module: even columns, odd columns, both, then what there was.
fn one_sum(row: &[f32], x: &[f32]) -> f32 {
    let to = |value: &f32| f32::from_bits(u32::from(brain(*value)) << 16);
    let flush = |value: f32| if value.is_subnormal() { 0.0_f32.copysign(value) } else { value };
    let mut sum = 0.0;
    for (row, x) in row.chunks(COLUMNS).zip(x.chunks(COLUMNS)) {
        let half = |first: usize| {
            let pairs = row.iter().zip(x).skip(first).step_by(2);
            pairs.fold(0.0, |sum, (row, x)| flush(to(row).mul_add(to(x), sum)))
        };
        sum = flush(flush(half(0) + half(1)) + sum);
    }
    sum
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]

    #[test]
    fn a_product_is_summed_in_the_order_that_is_told(
        rows in 1usize..40,
        columns in 1usize..150,
        tokens in 1usize..40,
        small in any::<bool>(),
        seed in any::<u32>(),
    ) {
        // Ordinary numbers, or such that products leave the range of normal ones.
        let exponent = |word: u32| if small { 40 + word % 60 } else { 120 + word % 10 };
        let number = |word: u32| f32::from_bits(word & 0x807F_FFFF | exponent(word >> 8) << 23);
        let numbers = |count: usize, seed: u32| -> Vec<f32> {
            words(count, seed).into_iter().map(number).collect()
        };
        let weights = numbers(rows * columns, seed);
        let stored: Vec<u8> = weights.iter().flat_map(|value| brain(*value).to_le_bytes()).collect();
        let x = numbers(tokens * columns, seed ^ 0x5555);
        let matrix = Matrix { tensor_type: TensorType::BF16, rows, columns, bytes: &stored };
        let team = Team::new(NonZero::new(2));
        for path in Path::available().filter(|path| path.class() == crate::Class::Bf16) {
            let mut activations = Activations::default();
            activations.prepare(path, &team, matrix.tensor_type, &x, columns);
            let mut out = vec![f32::NAN; tokens * rows];
            multiply(path, &team, matrix, &activations, &mut out);
            for (token, x) in x.chunks(columns).enumerate() {
                for (row, weights) in weights.chunks(columns).enumerate() {
                    let (found, told) = (out[token * rows + row], one_sum(weights, x));
                    prop_assert_eq!(found.to_bits(), told.to_bits(), "{} {} {}", path, row, token);
                }
            }
        }
    }
}

/// The instruction itself beside its twin, with any bits at all. (Only on a processor that has it.)
#[cfg(target_arch = "x86_64")]
#[test]
fn the_instruction_computes_what_its_twin_says() {
    if !instructions() {
        return eprintln!("skipped: this processor has no AMX");
    }
    for seed in 0..200 {
        // Numbers near one another, far apart, smaller than normal ones, and any bits.
        let exponent = |word: u32| match seed % 4 {
            0 => 124 + word % 6,
            1 => 107 + word % 40,
            2 => 60 + word % 8,
            _ => word % 255,
        };
        let number = |word: &u32| (word & 0x807F | exponent(word >> 16) << 7) as u16;
        let (count, tokens) = (3, 1 + seed as usize % SIDE);
        let of_tiles = words(count * SIDE * COLUMNS * 2, seed + 1);
        let mut tiles = vec![Tile::zeroed(); 2 * count];
        for (place, word) in
            tiles.iter_mut().flat_map(|tile| tile.0.as_flattened_mut()).zip(&of_tiles)
        {
            *place = number(word);
        }
        let mut lines = vec![Sixteen::default(); count * tokens];
        let pairs: &mut [u16] = bytemuck::cast_slice_mut(&mut lines);
        for (place, word) in pairs.iter_mut().zip(words(count * tokens * COLUMNS, seed ^ 77).iter())
        {
            *place = number(word);
        }
        let begun: Vec<f32> =
            words(HIGH * SIDE * SIDE, seed ^ 5).iter().map(|word| *word as f32 / 1e9).collect();
        let (upper, lower) = tiles.split_at(count);
        let results = [true, false].map(|instructed| {
            let mut sums = <[Sums; HIGH]>::zeroed();
            for (place, value) in
                bytemuck::cast_slice_mut(sums.as_flattened_mut()).iter_mut().zip(&begun)
            {
                *place = *value;
            }
            let (panel, lines) = (Panel { upper, lower }, &lines[..]);
            let group = Group { lines, tokens, sums: &mut sums };
            if instructed {
                amx::Amx::begin().one(&panel, group);
            } else {
                plain::Simulated::begin().one(&panel, group);
            }
            let rows = sums.as_flattened().iter().map(|row| row.0[..tokens].to_vec());
            rows.collect::<Vec<_>>().concat()
        });
        let [found, told] = results;
        for (found, told) in found.iter().zip(&told) {
            let same = found.to_bits() == told.to_bits() || found.is_nan() && told.is_nan();
            assert!(same, "{seed}: {found} instead of {told}");
        }
    }
}

/// What it costs to compute in eight bits and in tiles, beside double precision.
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
    // Nearly as a normal distribution has them, as activations are.
    let uniform = |word: &u32| *word as f32 / u32::MAX as f32 - 0.5;
    let x: Vec<f32> =
        words(12 * columns, 9).chunks(12).map(|words| words.iter().map(uniform).sum()).collect();
    let matrix = Matrix { tensor_type: TensorType::Q8_0, rows, columns, bytes: &bytes };
    let error = |path: Path| {
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
    let (eighths, tiles) = (error(Path::Scalar), error(Path::AmxSimulated));
    assert!(tiles > 0.0 && tiles < eighths / 2.0, "{tiles:e} and {eighths:e}");
    // The bounds that docs/NUMERICS.md states.
    assert!(tiles < 3e-3 && eighths < 8e-3, "{tiles:e} and {eighths:e}");
}
