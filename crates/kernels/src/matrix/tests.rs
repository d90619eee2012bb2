//! One suite, run over every path this processor has.

use std::num::NonZero;

use half::f16;
use proptest::prelude::*;

use super::*;

fn paths() -> Vec<Instructions> {
    let (paths, missing): (Vec<Instructions>, Vec<Instructions>) =
        Instructions::ALL.into_iter().partition(|path| path.runs_here());
    for path in missing {
        eprintln!("skipped: this processor has no {path}");
    }
    paths
}

/// Results of the specification of each class.
struct Twins<T>([T; 2]);

impl<T> Twins<T> {
    fn of(result: impl Fn(Instructions) -> T) -> Self {
        Self([result(Instructions::Scalar), result(Instructions::AmxSimulated)])
    }

    /// That of a path's class.
    fn of_class(&self, path: Instructions) -> &T {
        &self.0[usize::from(path.class() == crate::Class::Bf16)]
    }
}

fn product(path: Instructions, team: &Team, matrix: Matrix<&[u8]>, x: &[f32]) -> Vec<f32> {
    let mut activations = Activations::default();
    activations.prepare(path, team, matrix.tensor_type, x, matrix.columns);
    let mut out = vec![f32::NAN; x.len() / matrix.columns * matrix.rows];
    multiply(path, team, matrix, &activations, &mut out);
    out
}

/// Numbers that look random: any bits.
pub(crate) fn words(count: usize, seed: u32) -> Vec<u32> {
    let mut state = seed | 1;
    let next = || {
        // Source: Marsaglia 2003, "Xorshift RNGs".
        state ^= state << 13;
        state ^= state >> 17;
        state ^= state << 5;
        state
    };
    std::iter::repeat_with(next).take(count).collect()
}

/// Any bytes, with scales that are numbers: blocks whose half floats are neither infinite nor too large.
fn stored(tensor_type: TensorType, values: usize, seed: u32) -> Vec<u8> {
    let bytes = words(tensor_type.row_bytes(values), seed).into_iter();
    with_numbers(tensor_type, bytes.map(|word| word.to_le_bytes()[1]).collect())
}

/// Bytes whose scales are made numbers.
fn with_numbers(tensor_type: TensorType, mut bytes: Vec<u8>) -> Vec<u8> {
    let number = |bytes: &mut [u8], at: usize| bytes[at + 1] = bytes[at + 1] & 0x83 | 0x20;
    let places: &[usize] = match tensor_type {
        TensorType::Q4_1 | TensorType::Q5_1 | TensorType::Q4_K | TensorType::Q5_K => &[0, 2],
        TensorType::Q2_K => &[80, 82],
        TensorType::Q3_K => &[108],
        TensorType::Q6_K => &[208],
        TensorType::F16 => &[0],
        _ => &[0],
    };
    for block in bytes.chunks_mut(tensor_type.block_bytes()) {
        match tensor_type {
            TensorType::F32 => block.copy_from_slice(&(f32::from(block[0]) - 99.5).to_le_bytes()),
            TensorType::BF16 => block[1] = block[1] & 0x80 | 0x3F,
            _ => places.iter().for_each(|&at| number(block, at)),
        }
    }
    bytes
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    /// The scalar path, one token, is the specification: every other path, number of tokens and number
    /// of threads gives the same bits.
    #[test]
    fn every_path_and_number_of_tokens_agrees_with_the_scalar_twin_bit_for_bit(
        rows in 1usize..70,
        blocks in 1usize..6,
        tokens in 1usize..9,
        threads in 1usize..4,
        seed in any::<u32>(),
    ) {
        let (one, team) = (Team::new(NonZero::new(1)), Team::new(NonZero::new(threads)));
        for &tensor_type in TensorType::ALL {
            let columns = match tensor_type.block_values() {
                256 => blocks * 256,
                _ => blocks * 160,
            };
            let bytes = stored(tensor_type, rows * columns, seed);
            let matrix = Matrix { tensor_type, rows, columns, bytes: &bytes[..] };
            let x: Vec<f32> =
                (0..tokens * columns).map(|at| ((at as f32 + seed as f32 * 1e-6) * 0.11).sin()).collect();
            let twins = Twins::of(|twin| -> Vec<u32> {
                let each = x.chunks(columns).flat_map(|x| product(twin, &one, matrix, x));
                each.map(f32::to_bits).collect()
            });
            for path in paths() {
                let twin = twins.of_class(path);
                prop_assert!(twin.iter().any(|&bits| f32::from_bits(bits) != 0.0));
                let found: Vec<u32> =
                    product(path, &team, matrix, &x).into_iter().map(f32::to_bits).collect();
                prop_assert_eq!(&found, twin, "{} on {}, {} tokens", tensor_type, path, tokens);
                let alone: Vec<u32> =
                    product(path, &team, matrix, &x[..columns]).into_iter().map(f32::to_bits).collect();
                prop_assert_eq!(&alone[..], &twin[..rows], "{} on {}, one token", tensor_type, path);
            }
        }
    }

    #[test]
    fn rows_of_floats_agree_whatever_their_length(
        pairs in prop::collection::vec((-50f32..50.0, -50f32..50.0), 1..200),
    ) {
        let (weights, x): (Vec<f32>, Vec<f32>) = pairs.into_iter().unzip();
        let twin = dot(Instructions::Scalar, &weights, &x);
        for path in paths() {
            prop_assert_eq!(dot(path, &weights, &x), twin);
        }
        let team = Team::new(NonZero::new(1));
        let bytes: Vec<u8> =
            (0..9).flat_map(|_| weights.iter().flat_map(|weight| weight.to_le_bytes())).collect();
        let matrix =
            Matrix { tensor_type: TensorType::F32, rows: 9, columns: x.len(), bytes: &bytes[..] };
        for path in paths() {
            prop_assert_eq!(product(path, &team, matrix, &x), vec![twin; 9]);
        }
    }
}

/// Sums of products are as large as they can be: nothing that is narrower than they are may hold them.
#[test]
fn quants_at_their_ends_and_the_largest_activations_overflow_nothing() {
    let team = Team::new(NonZero::new(1));
    let (rows, columns, tokens) = (3, 768, 4);
    for tensor_type in TensorType::ALL.iter().copied().filter(|kind| !kind.is_float()) {
        for fill in [0x00, 0x7F, 0x80, 0xFF] {
            let bytes = vec![fill; tensor_type.row_bytes(rows * columns)];
            let bytes = with_numbers(tensor_type, bytes);
            let matrix = Matrix { tensor_type, rows, columns, bytes: &bytes[..] };
            for value in [1.0, -1.0] {
                let x = vec![value; tokens * columns];
                let twins =
                    Twins::of(|twin| product(twin, &team, matrix, &x[..columns]).repeat(tokens));
                for path in paths() {
                    let found = product(path, &team, matrix, &x);
                    assert_eq!(
                        &found,
                        twins.of_class(path),
                        "{tensor_type} of {fill:02x} on {path}"
                    );
                }
            }
        }
    }
}

/// Rows of more strips, and more rows and tokens, than are multiplied at a time.
#[test]
fn long_rows_and_many_tokens_agree_with_the_scalar_twin() {
    let (one, two) = (Team::new(NonZero::new(1)), Team::new(NonZero::new(2)));
    let (rows, most) = (39, 103);
    // Panels of four, two and one tiles above one another; the last columns' rows in two parts.
    for (tensor_type, columns) in [
        (TensorType::Q8_0, 3840),
        (TensorType::Q5_1, 2816),
        (TensorType::Q4_K, 3840),
        (TensorType::Q6_K, 1536),
        (TensorType::Q2_K, 768),
        (TensorType::Q4_0, 2816),
        (TensorType::F32, 1000),
        (TensorType::F16, 1000),
        (TensorType::BF16, 1000),
    ] {
        let x: Vec<f32> = (0..most * columns).map(|at| (at as f32 * 0.013).sin()).collect();
        let bytes = stored(tensor_type, rows * columns, 11);
        let matrix = Matrix { tensor_type, rows, columns, bytes: &bytes[..] };
        let twins = Twins::of(|twin| -> Vec<f32> {
            x.chunks(columns).flat_map(|x| product(twin, &one, matrix, x)).collect()
        });
        for path in paths() {
            let twin = twins.of_class(path);
            for tokens in [2, 7, 24, 25, 96, most] {
                let found = product(path, &two, matrix, &x[..tokens * columns]);
                assert_eq!(
                    found,
                    twin[..tokens * rows],
                    "{tensor_type} on {path}, {tokens} tokens"
                );
            }
        }
    }
}

/// Matrices that share their activations, large and small ones, none of which a team could divide evenly.
#[test]
fn several_products_at_once_give_what_each_gives_alone() {
    let columns = 768;
    for tensor_type in [TensorType::Q8_0, TensorType::Q4_K, TensorType::F16, TensorType::F32] {
        let sizes = [1_usize, 67, 260];
        let stored = sizes.map(|rows| stored(tensor_type, rows * columns, 3 + rows as u32));
        for (tokens, threads) in [(1, 1), (1, 3), (2, 2), (19, 3), (110, 2), (0, 2)] {
            let team = Team::new(NonZero::new(threads));
            let x: Vec<f32> = (0..tokens * columns).map(|at| (at as f32 * 0.017).cos()).collect();
            for path in paths() {
                let mut activations = Activations::default();
                activations.prepare(path, &team, tensor_type, &x, columns);
                let matrix = |at: usize| Matrix {
                    tensor_type,
                    rows: sizes[at],
                    columns,
                    bytes: &stored[at][..],
                };
                let mut out = sizes.map(|rows| vec![f32::NAN; rows * tokens]);
                let [a, b, c] = &mut out;
                let products = [(matrix(0), &mut a[..]), (matrix(1), b), (matrix(2), c)];
                multiply_all(path, &team, &activations, products);
                for (at, found) in out.iter().enumerate() {
                    let alone = product(path, &team, matrix(at), &x);
                    assert_eq!(found, &alone, "{tensor_type} on {path}, {tokens} tokens, {at}");
                }
            }
        }
    }
}

#[test]
fn no_token_has_no_result() {
    let team = Team::new(NonZero::new(2));
    for tensor_type in [TensorType::F16, TensorType::Q8_0] {
        let bytes = stored(tensor_type, 64 * 64, 7);
        let matrix = Matrix { tensor_type, rows: 64, columns: 64, bytes: &bytes[..] };
        for path in paths() {
            assert!(product(path, &team, matrix, &[]).is_empty(), "{tensor_type} on {path}");
        }
    }
}

#[test]
#[should_panic(expected = "activations for another path")]
fn activations_of_another_path_are_noticed() {
    let team = Team::new(NonZero::new(1));
    let mut x = Activations::default();
    x.prepare(Instructions::Scalar, &team, TensorType::Q8_0, &[1.0; 64], 32);
    // On a processor that has nothing better, of no path.
    x.path = x.path.filter(|_| Instructions::best() != Instructions::Scalar);
    let bytes = stored(TensorType::Q8_0, 32, 7);
    let matrix = Matrix { tensor_type: TensorType::Q8_0, rows: 1, columns: 32, bytes: &bytes[..] };
    multiply(Instructions::best(), &team, matrix, &x, &mut [0.0; 2]);
}

/// Whole tiles of tokens leave nothing for the last of so many threads.
#[test]
fn tokens_divided_among_many_threads_agree_with_the_scalar_twin() {
    let (one, many) = (Team::new(NonZero::new(1)), Team::new(NonZero::new(30)));
    let (tensor_type, rows, columns, tokens) = (TensorType::Q8_0, 5, 32, 1441);
    let bytes = stored(tensor_type, rows * columns, 3);
    let matrix = Matrix { tensor_type, rows, columns, bytes: &bytes[..] };
    let x: Vec<f32> = (0..tokens * columns).map(|at| (at as f32 * 0.07).sin()).collect();
    let twins = Twins::of(|twin| product(twin, &one, matrix, &x));
    for path in paths() {
        assert_eq!(&product(path, &many, matrix, &x), twins.of_class(path), "{path}");
    }
}

/// Rows of which several fill what is otherwise a piece of one row, and some that are left over.
#[test]
fn short_rows_agree_with_the_scalar_twin() {
    let team = Team::new(NonZero::new(2));
    for &tensor_type in TensorType::ALL {
        let widths: &[usize] = match tensor_type.block_values() {
            256 => &[256],
            _ => &[32, 64, 96, 128, 256],
        };
        for &columns in widths {
            let rows = 37;
            let bytes = stored(tensor_type, rows * columns, 5);
            let matrix = Matrix { tensor_type, rows, columns, bytes: &bytes[..] };
            for x in [0.7f32, 0.0, -0.7] {
                let x: Vec<f32> = (0..columns).map(|at| (at as f32 * 0.19).cos() * x).collect();
                let bits = |path| product(path, &team, matrix, &x).into_iter().map(f32::to_bits);
                let twins = Twins::of(|twin| bits(twin).collect::<Vec<u32>>());
                for path in paths() {
                    let found: Vec<u32> = bits(path).collect();
                    assert_eq!(
                        &found,
                        twins.of_class(path),
                        "{tensor_type} on {path}, rows of {columns}"
                    );
                }
            }
        }
    }
}

/// Rows that are no whole number of strips, between rows whose scales are no numbers.
#[test]
fn what_a_row_has_not_is_not_taken_from_the_row_behind_it() {
    let team = Team::new(NonZero::new(2));
    for &tensor_type in TensorType::ALL {
        for columns in [256, 512 + 256] {
            let mut bytes = stored(tensor_type, 9 * columns, 11);
            for row in bytes.chunks_mut(tensor_type.row_bytes(columns)).skip(1).step_by(2) {
                row.fill(0xFF);
            }
            let matrix = Matrix { tensor_type, rows: 9, columns, bytes: &bytes[..] };
            for tokens in [1, 2, 30] {
                let x: Vec<f32> =
                    (0..tokens * columns).map(|at| (at as f32 * 0.19).cos()).collect();
                let even = |path| -> Vec<u32> {
                    let found = product(path, &team, matrix, &x);
                    let own = found.chunks(9).flat_map(|token| token.iter().step_by(2));
                    own.map(|value| value.to_bits()).collect()
                };
                let twins = Twins::of(even);
                for path in paths() {
                    let found = even(path);
                    assert!(found.iter().all(|bits| f32::from_bits(*bits).is_finite()));
                    assert_eq!(&found, twins.of_class(path), "{tensor_type} on {path}");
                }
            }
        }
    }
}

#[test]
fn extreme_bytes_do_not_saturate() {
    let team = Team::new(NonZero::new(1));
    let mut row = Vec::new();
    for _ in 0..20 {
        row.extend_from_slice(&f16::from_f32(1.0).to_le_bytes());
        row.extend([128u8; 32]);
    }
    let matrix = Matrix { tensor_type: TensorType::Q8_0, rows: 1, columns: 640, bytes: &row[..] };
    for path in paths() {
        let found = product(path, &team, matrix, &[-127.0; 640]);
        assert_eq!(found, [(128 * 127 * 640) as f32], "{path}");
    }
}

#[test]
fn a_value_that_is_no_number_is_noticed_in_its_token_only() {
    let team = Team::new(None);
    for tensor_type in [TensorType::Q8_0, TensorType::Q4_K, TensorType::F16] {
        let bytes = stored(tensor_type, 20 * 512, 7);
        let matrix = Matrix { tensor_type, rows: 20, columns: 512, bytes: &bytes[..] };
        let mut x = vec![0.5; 3 * 512];
        x[512 + 77] = f32::NAN;
        for path in paths() {
            let found = product(path, &team, matrix, &x);
            let is_nan: Vec<bool> =
                found.chunks(20).map(|token| token.iter().all(|value| value.is_nan())).collect();
            assert_eq!(is_nan, [false, true, false], "{tensor_type} on {path}");
            assert!(found[..20].iter().chain(&found[40..]).all(|value| value.is_finite()));
        }
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
    let team = Team::new(None);
    for &tensor_type in TensorType::ALL {
        let x = floats(format!("{tensor_type}.matvec.x.f32"));
        let expected = floats(format!("{tensor_type}.matvec.y.f32"));
        let bytes = read(format!("{tensor_type}.matvec.w.bin"));
        let (rows, columns) = (expected.len(), x.len());
        let matrix = Matrix { tensor_type, rows, columns, bytes: &bytes[..] };
        for path in paths() {
            let found = product(path, &team, matrix, &x);
            for (row, stored) in bytes.chunks(tensor_type.row_bytes(columns)).enumerate() {
                let mut weights = vec![0.0; columns];
                tensor_type.decode(stored, &mut weights);
                let is_exact = tensor_type == TensorType::F32
                    || tensor_type.is_float() && path.class() == crate::Class::Int8;
                let tolerance = if is_exact {
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
