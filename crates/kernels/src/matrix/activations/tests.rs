use std::num::NonZero;

use proptest::prelude::*;

use super::*;

fn in_eight_bits() -> impl Iterator<Item = Instructions> {
    Instructions::available().filter(|path| path.class() == Class::Int8)
}

fn rounded(values: &[f32]) -> (Vec<i8>, Vec<f32>) {
    let team = Team::new(NonZero::new(1));
    let mut results = in_eight_bits().map(|path| {
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

/// The values of a token's strip in the usual order, whatever the layout.
struct StripValues {
    quants: Vec<i8>,
    scales: [f32; STRIP_GROUPS],
    /// Of the halves of groups, or of groups.
    sum_biases: Vec<[i32; STRIP_GROUPS]>,
    min_factors: Vec<[f32; STRIP_GROUPS]>,
}

fn strip_values(x: &Activations, form: Form, token: usize) -> StripValues {
    let group_by_group = |at: usize| at % GROUP / 4 * 64 + at / GROUP * 4 + at % 4;
    #[cfg(target_arch = "x86_64")]
    if x.is_tiled() {
        let lines = TokenLines(form);
        let quants: Vec<&[i8]> = (0..STRIP / 64)
            .map(|step| bytemuck::cast_slice(&x.tiles()[lines.quants(step, token)].0))
            .collect();
        let quants = quants.concat();
        let line = |line: usize| x.tiles()[line].0;
        let sum_biases = (0..form.sum_biases()).map(|half| lines.sum_biases(half, token));
        let min_factors = (0..form.mins()).map(|half| lines.min_factors(half, token));
        return StripValues {
            quants: (0..STRIP).map(|at| quants[group_by_group(at)]).collect(),
            scales: line(lines.scales(token)),
            sum_biases: sum_biases.map(|at| bytemuck::cast(line(at))).collect(),
            min_factors: min_factors.map(line).collect(),
        };
    }
    let strip = &x.of(token)[0];
    let is_interleaved = x.path.is_some_and(Instructions::is_narrow);
    let place = |at| if is_interleaved { group_by_group(at) } else { at };
    StripValues {
        quants: (0..STRIP).map(|at| strip.quants[place(at)]).collect(),
        scales: strip.scales,
        sum_biases: strip.sum_biases.to_vec(),
        min_factors: strip.min_factors.to_vec(),
    }
}

#[test]
fn strips_have_sums_for_offsets_and_minima() {
    let team = Team::new(None);
    let values: Vec<f32> = (0..3 * 96).map(|at| (at as f32 * 0.37).sin() * 5.0).collect();
    let types = [TensorType::Q8_0, TensorType::Q6_K, TensorType::Q4_K, TensorType::Q2_K];
    for (path, tensor_type) in in_eight_bits().flat_map(|path| types.map(|one| (path, one))) {
        let mut x = Activations::default();
        x.prepare(path, &team, tensor_type, &values, 96);
        let form = Form::of(tensor_type).unwrap();
        let (quants, scales) = rounded(&values[96..192]);
        let found = strip_values(&x, form, 1);
        assert_eq!(found.quants[..96], quants);
        assert_eq!(found.scales[..3], scales);
        assert_eq!(found.scales[3..], [0.0; 13]);
        let offset = i32::from(form.offset);
        let length = GROUP / form.parts();
        for (half, group) in (0..form.parts()).flat_map(|half| [(half, 0), (half, 2)]) {
            let own = &quants[group * GROUP + half * length..][..length];
            let sum: i32 = own.iter().map(|&quant| i32::from(quant)).sum();
            if offset != 0 {
                assert_eq!(found.sum_biases[half][group], -offset * sum, "{tensor_type}");
            }
            if form.minima {
                assert_eq!(
                    found.min_factors[half][group],
                    scales[group] * sum as f32,
                    "{tensor_type}"
                );
            }
        }
    }
}

#[cfg(target_arch = "x86_64")]
#[test]
fn tokens_are_divided_by_threads_and_by_what_stays_near() {
    let together = |form: Option<Form>, tokens, width| {
        let kind = form.map_or(Kind::Floats, Kind::RoundedStrip);
        let x = Activations { kind, tokens, width, ..Activations::default() };
        let tile = if form.is_some() { TILE_TOKENS } else { FLOAT_TOKENS };
        x.tokens_together(2, tile)
    };
    let form = Form::of(TensorType::Q8_0);
    assert_eq!(together(form, 90, 4 * STRIP), 90, "few stay together");
    assert_eq!(together(form, 256, 4 * STRIP), 129, "a part for each thread, in whole tiles");
    assert_eq!(together(form, 256, 11 * STRIP), 66, "of long rows four");
    assert_eq!(together(None, 256, 2048), 66, "of floats, which are larger, too");
    // As long as nothing of a row stays near: never fewer than pays, whatever a file says.
    for strips in [900, 921, 922, 1 << 40] {
        let together = together(form, 1000, strips * STRIP);
        assert!((LEAST_TOKENS..2 * LEAST_TOKENS).contains(&together), "{strips}: {together}");
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
