use std::path::Path;

use super::*;

fn golden(name: &str) -> Vec<u8> {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../golden/quants").join(name);
    std::fs::read(&path).unwrap_or_else(|error| panic!("{}: {error}", path.display()))
}

fn floats(bytes: &[u8]) -> Vec<f32> {
    bytes.as_chunks::<4>().0.iter().map(|word| f32::from_le_bytes(*word)).collect()
}

#[test]
fn decoded_blocks_equal_the_golden_values_bit_for_bit() {
    for tensor_type in TensorType::ALL.iter().copied() {
        let blocks = golden(&format!("{tensor_type}.bin"));
        let expected = floats(&golden(&format!("{tensor_type}.f32")));
        let mut values = vec![f32::NAN; expected.len()];
        tensor_type.decode(&blocks, &mut values);
        for (at, (value, wanted)) in values.iter().zip(&expected).enumerate() {
            let same = value.to_bits() == wanted.to_bits()
                || (value == wanted)
                || (value.is_nan() && wanted.is_nan());
            assert!(same, "{tensor_type} value {at}: {value} instead of {wanted}");
        }
    }
}

#[test]
fn layout_table_agrees_with_the_golden_index() {
    let index: serde_json::Value = serde_json::from_slice(&golden("index.json")).unwrap();
    let mut seen = 0;
    for (name, entry) in index.as_object().unwrap() {
        let Some(id) = entry["type_id"].as_u64() else {
            continue;
        };
        let found = TensorType::from_id(u32::try_from(id).unwrap())
            .unwrap_or_else(|| panic!("type {id} is not in the table"));
        assert_eq!(found.name(), name);
        assert_eq!(found.block_values() as u64, entry["block_values"].as_u64().unwrap());
        assert_eq!(found.block_bytes() as u64, entry["block_bytes"].as_u64().unwrap());
        seen += 1;
    }
    assert_eq!(seen, TensorType::ALL.len());
}

#[test]
fn no_quant_is_more_than_its_type_says() {
    for tensor_type in TensorType::ALL.iter().copied().filter(|kind| !kind.is_float()) {
        // All bytes at all positions.
        let mut state = 7_u32;
        let mut byte = || {
            state = state.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
            (state >> 24) as u8
        };
        let most = crate::with_blocks!(tensor_type, B => {
            let mut strip = Strip::default();
            let mut most = 0;
            for _ in 0..200 {
                let blocks: Vec<u8> = (0..STRIP / B::VALUES * B::BYTES).map(|_| byte()).collect();
                unpack::<B>(&blocks, &mut strip);
                most = most.max(*strip.quants.iter().max().unwrap());
            }
            (most, B::MOST)
        });
        assert_eq!(most.0, most.1, "{tensor_type}");
    }
}

proptest::proptest! {
    #[test]
    fn q8_0_round_trip_stays_within_half_a_step(
        values in proptest::collection::vec(-1000f32..1000.0, 32..=32),
    ) {
        let mut decoded = vec![0.0; 32];
        let mut blocks = vec![0; TensorType::Q8_0.row_bytes(values.len())];
        encode_q8_0(&values, &mut blocks);
        TensorType::Q8_0.decode(&blocks, &mut decoded);
        let largest = values.iter().fold(0f32, |largest, value| largest.max(value.abs()));
        for (value, decoded) in values.iter().zip(&decoded) {
            // Half a step, and the rounding of the scale to half precision.
            proptest::prop_assert!((value - decoded).abs() <= largest / 127.0 * 0.5 + largest * 6e-4);
        }
    }
}
