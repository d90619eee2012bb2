//! One suite, run over every path this processor has.

use half::f16;
use proptest::prelude::*;

use super::*;
use crate::{Matrix, multiply};
use deft_formats::quant::TensorType;

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
            prop_assert_eq!(floats(path, &weights, &x), scalar::f32_row(&wide, &x));
            let (mut sums, mut twin) = (x.clone(), x.clone());
            add_scaled_f16(path, &narrow, 0.3, &mut sums);
            scalar::add_scaled_f16(&narrow, 0.3, &mut twin);
            add_scaled_f32(path, &wide, -0.7, &mut sums);
            scalar::add_scaled_f32(&wide, -0.7, &mut twin);
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
            let mut sums: Vec<f32> = quants.iter().map(|&quant| f32::from(quant)).collect();
            let mut twin = sums.clone();
            add_scaled_q8_0(path, &row, 0.4, &mut sums);
            scalar::add_scaled_q8_0(&row, 0.4, &mut twin);
            prop_assert_eq!(sums, twin);
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
    for &tensor_type in TensorType::ALL {
        let x = floats(format!("{tensor_type}.matvec.x.f32"));
        let expected = floats(format!("{tensor_type}.matvec.y.f32"));
        let bytes = read(format!("{tensor_type}.matvec.w.bin"));
        let (rows, columns) = (expected.len(), x.len());
        let matrix = Matrix { tensor_type, rows, columns, bytes: &bytes };
        let activations = Matrix::activations(tensor_type, &x, columns);
        for path in paths() {
            let mut found = vec![0.0; rows];
            multiply(path, matrix, &activations, &mut found, &mut Vec::new());
            for (row, stored) in bytes.chunks(tensor_type.row_bytes(columns)).enumerate() {
                let mut weights = vec![0.0; columns];
                tensor_type.decode(stored, &mut weights);
                let tolerance = if tensor_type.is_float() {
                    1e-6 * weights.iter().zip(&x).map(|(w, x)| f64::from(w * x).abs()).sum::<f64>()
                } else {
                    0.03 * norm(&weights) * norm(&x) / (columns as f64).sqrt()
                };
                let (found, wanted) = (found[row], expected[row]);
                let error = f64::from(found - wanted).abs();
                assert!(error <= tolerance, "{tensor_type} {path}: {found} instead of {wanted}");
            }
        }
    }
}

proptest! {
    #[test]
    fn unpacked_rows_agree_on_every_path(
        rows in prop::collection::vec(
            (
                prop::collection::vec((any::<i8>(), -127i8..=127), BLOCK),
                (-128i16..128, -128i16..128),
                (0i16..64, 0i16..64),
                (-2f32..2.0, -2f32..2.0, 0f32..3.0),
            ),
            0..30,
        ),
    ) {
        let mut groups = Vec::new();
        let (mut quants, mut scales) = (Vec::new(), Vec::new());
        for (pairs, (a, b), (c, d), (scale, min, x)) in &rows {
            let mut group =
                Group { scales: [*a, *b], mins: [*c, *d], scale: *scale, min: *min, ..Group::default() };
            for (quant, pair) in group.quants.iter_mut().zip(pairs) {
                *quant = pair.0;
            }
            groups.push(group);
            quants.extend(pairs.iter().map(|pair| pair.1));
            scales.push(*x);
        }
        let sums: Vec<i16> = quants
            .chunks(16)
            .map(|half: &[i8]| half.iter().map(|&quant| i16::from(quant)).sum())
            .collect();
        let twin = scalar::group_row(&groups, &quants, &scales, &sums);
        for path in paths() {
            prop_assert_eq!(group_row(path, &groups, &quants, &scales, &sums), twin);
        }
    }
}
