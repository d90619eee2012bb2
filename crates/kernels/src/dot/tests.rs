//! One suite, run over every path this processor has.

use half::f16;
use proptest::prelude::*;

use super::*;
use crate::Activations;

fn paths() -> Vec<Path> {
    let paths: Vec<Path> = Path::available().collect();
    if paths.len() == 1 {
        eprintln!("this processor has the scalar path only: the comparison says nothing here");
    }
    paths
}

fn q8_row(weights: &[i8], scales: &[f32]) -> Vec<u8> {
    let mut row = Vec::new();
    for (block, scale) in weights.chunks(BLOCK).zip(scales) {
        row.extend_from_slice(&f16::from_f32(*scale).to_le_bytes());
        row.extend(block.iter().map(|weight| weight.cast_unsigned()));
    }
    row
}

proptest! {
    #[test]
    fn every_path_agrees_with_the_scalar_twin_bit_for_bit(
        pairs in prop::collection::vec((-50f32..50.0, -50f32..50.0), 0..200),
    ) {
        let (weights, x): (Vec<f32>, Vec<f32>) = pairs.into_iter().unzip();
        let wide: Vec<u8> = weights.iter().flat_map(|weight| weight.to_le_bytes()).collect();
        let narrow: Vec<u8> =
            weights.iter().flat_map(|weight| f16::from_f32(*weight).to_le_bytes()).collect();
        for path in paths() {
            prop_assert_eq!(f32_row(path, &wide, &x), scalar::f32_row(&wide, &x));
            prop_assert_eq!(f16_row(path, &narrow, &x), scalar::f16_row(&narrow, &x));
            let (mut sums, mut twin) = (x.clone(), x.clone());
            add_scaled_f16(path, &narrow, 0.3, &mut sums);
            scalar::add_scaled_f16(&narrow, 0.3, &mut twin);
            prop_assert_eq!(sums, twin);
        }
    }

    #[test]
    fn eight_bit_rows_agree_on_every_path(
        blocks in prop::collection::vec((prop::collection::vec((any::<i8>(), -127i8..=127), BLOCK), -9f32..9.0, 0f32..3.0), 0..40),
    ) {
        let weights: Vec<i8> = blocks.iter().flat_map(|(pairs, ..)| pairs.iter().map(|pair| pair.0)).collect();
        let quants: Vec<i8> = blocks.iter().flat_map(|(pairs, ..)| pairs.iter().map(|pair| pair.1)).collect();
        let weight_scales: Vec<f32> = blocks.iter().map(|(_, scale, _)| *scale).collect();
        let scales: Vec<f32> = blocks.iter().map(|(.., scale)| *scale).collect();
        let row = q8_row(&weights, &weight_scales);
        for path in paths() {
            prop_assert_eq!(q8_0_row(path, &row, &quants, &scales), scalar::q8_0_row(&row, &quants, &scales));
        }
    }
}

#[test]
fn extreme_bytes_do_not_saturate() {
    let row = q8_row(&[-128; 8 * BLOCK], &[1.0; 8]);
    let (quants, scales) = ([-127i8; 8 * BLOCK], [1.0; 8]);
    for path in paths() {
        assert_eq!(q8_0_row(path, &row, &quants, &scales), (128 * 127 * 32 * 8) as f32, "{path}");
    }
}

/// The golden products, within the tolerances their README states.
#[test]
fn products_agree_with_the_golden_ones() {
    let folder = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../golden/quants");
    let read = |name: String| std::fs::read(folder.join(&name)).unwrap();
    let floats = |name| -> Vec<f32> {
        read(name).as_chunks::<4>().0.iter().map(|word| f32::from_le_bytes(*word)).collect()
    };
    let norm = |x: &[f32]| x.iter().map(|x| f64::from(*x).powi(2)).sum::<f64>().sqrt();
    for name in ["F32", "F16", "Q8_0"] {
        let x = floats(format!("{name}.matvec.x.f32"));
        let expected = floats(format!("{name}.matvec.y.f32"));
        let rows = read(format!("{name}.matvec.w.bin"));
        let bytes = rows.len() / expected.len();
        let eight = Activations::eight_bit(&x, x.len());
        for path in paths() {
            for (row, wanted) in rows.chunks(bytes).zip(&expected) {
                let (found, tolerance) = match name {
                    "F32" | "F16" => {
                        let width = if name == "F32" { 4 } else { 2 };
                        let found = if width == 4 {
                            f32_row(path, row, &x)
                        } else {
                            f16_row(path, row, &x)
                        };
                        let weights: Vec<f32> = row
                            .chunks(width)
                            .map(|word| match *word {
                                [a, b] => f16::from_le_bytes([a, b]).to_f32(),
                                [a, b, c, d] => f32::from_le_bytes([a, b, c, d]),
                                _ => unreachable!(),
                            })
                            .collect();
                        let sum: f64 =
                            weights.iter().zip(&x).map(|(w, x)| f64::from(w * x).abs()).sum();
                        (found, 1e-6 * sum)
                    }
                    _ => {
                        let weights: Vec<f32> = row
                            .chunks(Q8_BYTES)
                            .flat_map(|block| {
                                let scale = f16::from_le_bytes([block[0], block[1]]).to_f32();
                                block[2..]
                                    .iter()
                                    .map(move |byte| scale * f32::from(byte.cast_signed()))
                            })
                            .collect();
                        let Activations::EightBit { quants, scales, .. } = &eight else {
                            unreachable!()
                        };
                        let bound = 0.03 * norm(&weights) * norm(&x) / (x.len() as f64).sqrt();
                        (q8_0_row(path, row, quants, scales), bound)
                    }
                };
                let error = f64::from(found - wanted).abs();
                assert!(error <= tolerance, "{name} {path}: {found} instead of {wanted}");
            }
        }
    }
}
