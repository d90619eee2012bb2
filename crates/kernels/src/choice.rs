//! The choice of the best path of this machine by measurement.
//!
//! Within a class, the path with the wider instructions is faster. Between classes this must be measured: tiles are faster
//! with many tokens, but unpacking for tiles may be slower with one token.

use std::time::Instant;

use deft_formats::quant::TensorType;

use crate::matrix::{Activations, multiply};
use crate::{Class, Instructions, Matrix, Team};

/// Bytes of weights that are multiplied by one token: far more than the caches hold.
const LONG_BYTES: usize = 128 << 20;
/// Number of rows that are multiplied by many tokens.
const ROWS: usize = 2048;
const COLUMNS: usize = 2048;
const TOKENS: usize = 256;
/// Number of measurements of each. The shortest time counts, because the machine has other work too.
const ROUNDS: usize = 5;
/// Factor by which one token may take longer on the chosen path: two measurements of the same path differ by as much.
const SLOWER: f64 = 1.05;
/// Types that are measured: the two common forms of weights.
const TYPES: [TensorType; 2] = [TensorType::Q8_0, TensorType::Q4_K];

/// Measured times of a path in seconds; geometric means of two types of weights.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Measured {
    /// The path.
    pub path: Instructions,
    /// Time of one token and 128 MiB of weights.
    pub one: f64,
    /// Time of 256 tokens and 2,048 rows of 2,048 columns.
    pub many: f64,
}

/// Paths to measure: the best one of each class, if the processor supports both classes.
#[must_use]
pub fn candidates() -> Vec<Instructions> {
    let best = |class: Class| {
        let mut found = Instructions::available().filter(|path| !path.is_simulated());
        found.find(|path| path.class() == class)
    };
    match (best(Class::Int8), best(Class::Bf16)) {
        (Some(first), Some(second)) => vec![first, second],
        _ => Vec::new(),
    }
}

/// Whether a path gives the same bits as the plain computation of its class. If not, because the processor or its
/// simulation differs, the path must not be used.
#[must_use]
pub fn keeps_its_word(path: Instructions) -> bool {
    let twin = match path.class() {
        Class::Int8 => Instructions::Scalar,
        Class::Bf16 => Instructions::AmxSimulated,
    };
    let team = Team::new(None);
    let (rows, columns, tokens) = (80, 1024, 37);
    TYPES.into_iter().chain([TensorType::F16]).all(|tensor_type| {
        let stored = weights(tensor_type, rows * columns);
        let matrix = Matrix { tensor_type, rows, columns, bytes: &stored[..] };
        let [found, expected] = [path, twin].map(|path| product(path, &team, matrix, tokens));
        found.iter().zip(&expected).all(|(found, expected)| found.to_bits() == expected.to_bits())
    })
}

/// Measures the paths in alternation, so that other work of the machine affects all of them.
#[must_use]
pub fn measure(paths: &[Instructions], team: &Team) -> Vec<Measured> {
    let long = TYPES.map(|kind| rows_within(kind, LONG_BYTES));
    measure_with(paths, team, long, (ROWS, TOKENS))
}

/// The path to use: among those that are as fast as the fastest with one token, the one that is fastest with many tokens.
#[must_use]
pub fn chosen(measured: &[Measured]) -> Option<Instructions> {
    let least = measured.iter().map(|found| found.one).fold(f64::INFINITY, f64::min);
    let fit = measured.iter().filter(|found| found.one <= least * SLOWER);
    fit.min_by(|a, b| a.many.total_cmp(&b.many)).map(|found| found.path)
}

fn measure_with(
    paths: &[Instructions],
    team: &Team,
    long: [usize; 2],
    (rows, tokens): (usize, usize),
) -> Vec<Measured> {
    let mut found: Vec<Measured> =
        paths.iter().map(|&path| Measured { path, one: 1.0, many: 1.0 }).collect();
    for (kind, long) in TYPES.into_iter().zip(long) {
        let stored = weights(kind, long.max(rows) * COLUMNS);
        let matrix = |rows: usize| Matrix {
            tensor_type: kind,
            rows,
            columns: COLUMNS,
            bytes: &stored[..][..kind.row_bytes(rows * COLUMNS)],
        };
        let mut least = vec![(f64::INFINITY, f64::INFINITY); paths.len()];
        for _ in 0..ROUNDS {
            for (path, least) in paths.iter().zip(&mut least) {
                least.0 = least.0.min(seconds(*path, team, matrix(long), 1));
                least.1 = least.1.min(seconds(*path, team, matrix(rows), tokens));
            }
        }
        for (found, (one, many)) in found.iter_mut().zip(least) {
            found.one *= one.sqrt();
            found.many *= many.sqrt();
        }
    }
    found
}

/// Number of rows in that many bytes.
fn rows_within(tensor_type: TensorType, bytes: usize) -> usize {
    bytes / tensor_type.row_bytes(COLUMNS)
}

/// Stored weights without NaN.
fn weights(tensor_type: TensorType, values: usize) -> Vec<u8> {
    // Half floats of about 0.01 at every offset where a type may have its scales.
    let length = tensor_type.row_bytes(values);
    (0..length).map(|at| if at % 2 == 0 { (at * 7 % 251) as u8 } else { 0x21 }).collect()
}

fn inputs(columns: usize, tokens: usize) -> Vec<f32> {
    #[expect(clippy::cast_precision_loss, reason = "some numbers")]
    (0..tokens * columns).map(|at| (at as f32 * 0.11).sin()).collect()
}

fn product(path: Instructions, team: &Team, matrix: Matrix<&[u8]>, tokens: usize) -> Vec<f32> {
    let mut x = Activations::default();
    x.prepare(path, team, matrix.tensor_type, &inputs(matrix.columns, tokens), matrix.columns);
    let mut out = vec![0.0; tokens * matrix.rows];
    multiply(path, team, matrix, &x, &mut out);
    out
}

fn seconds(path: Instructions, team: &Team, matrix: Matrix<&[u8]>, tokens: usize) -> f64 {
    let inputs = inputs(matrix.columns, tokens);
    let mut x = Activations::default();
    let mut out = vec![0.0; tokens * matrix.rows];
    let began = Instant::now();
    x.prepare(path, team, matrix.tensor_type, &inputs, matrix.columns);
    multiply(path, team, matrix, &x, &mut out);
    began.elapsed().as_secs_f64()
}

#[cfg(test)]
mod tests {
    use std::num::NonZero;

    use super::*;

    fn measured(path: Instructions, one: f64, many: f64) -> Measured {
        Measured { path, one, many }
    }

    #[test]
    fn many_tokens_decide_unless_one_takes_longer() {
        let vectors = measured(Instructions::Avx512, 1.0, 1.0);
        let choice = |one, many| chosen(&[vectors, measured(Instructions::Amx, one, many)]);
        assert_eq!(choice(1.04, 0.5), Some(Instructions::Amx));
        assert_eq!(choice(0.7, 0.9), Some(Instructions::Amx));
        assert_eq!(choice(1.06, 0.5), Some(Instructions::Avx512), "one token takes longer");
        assert_eq!(choice(1.0, 1.2), Some(Instructions::Avx512), "many tokens take longer");
        assert_eq!(choice(f64::NAN, f64::NAN), Some(Instructions::Avx512), "it was not measured");
        assert_eq!(chosen(&[]), None);
    }

    #[test]
    fn every_path_keeps_its_word_on_this_processor() {
        for path in Instructions::available() {
            assert!(keeps_its_word(path), "{path}");
        }
        let stored = weights(TensorType::Q4_K, 1024);
        let matrix =
            Matrix { tensor_type: TensorType::Q4_K, rows: 1, columns: 1024, bytes: &stored[..] };
        let product = product(Instructions::Scalar, &Team::new(NonZero::new(1)), matrix, 1);
        assert!(product[0].is_finite() && product[0] != 0.0, "what is compared is a number");
    }

    #[test]
    fn paths_are_measured_in_turn_and_more_work_takes_longer() {
        let team = Team::new(NonZero::new(1));
        let paths = [Instructions::best(), Instructions::Scalar];
        let found = measure_with(&paths, &team, [64, 64], (256, 16));
        assert!(found.iter().zip(paths).all(|(found, path)| found.path == path));
        for Measured { path, one, many } in found {
            assert!(one > 0.0 && many > one, "{path}: {one} and {many}");
        }
    }

    #[test]
    fn there_is_nothing_to_choose_within_a_class() {
        let found = candidates();
        assert!(found.is_empty() || found[0].class() != found[1].class());
        assert!(!found.contains(&Instructions::AmxSimulated));
    }
}
