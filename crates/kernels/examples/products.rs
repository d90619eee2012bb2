//! Products beside the machine's limits, alternating; medians. Run with
//! `cargo run --release --package deft-kernels --example products [rounds [types and paths]]`, `COLUMNS` in the
//! environment for rows of another width than 2,048; `cache
//! [columns]` instead of rounds tells nanoseconds with everything in the nearest cache.
#![expect(clippy::print_stdout, clippy::cast_precision_loss, reason = "a measurement")]

use std::time::Instant;

use deft_formats::quant::TensorType;
use deft_kernels::parts::{Activations, multiply};
use deft_kernels::{Matrix, Path, Team, limits};

/// Tokens of a long prompt that are taken in together.
const MANY: usize = 120;
/// Moments that are measured, in the nearest cache.
const ROUNDS: usize = 60;

fn median(mut values: Vec<f64>) -> f64 {
    values.sort_by(f64::total_cmp);
    values[values.len() / 2]
}

fn timed(mut work: impl FnMut()) -> f64 {
    let began = Instant::now();
    work();
    began.elapsed().as_secs_f64()
}

fn main() {
    if std::env::args().nth(1).is_some_and(|text| text == "cache") {
        return in_cache(
            std::env::args().nth(2).and_then(|text| text.parse().ok()).unwrap_or(2048),
        );
    }
    let rounds = std::env::args().nth(1).and_then(|text| text.parse().ok()).unwrap_or(5);
    let columns = std::env::var("COLUMNS").ok().and_then(|text| text.parse().ok()).unwrap_or(2048);
    let (rows, tokens) = (8192, 256);
    let team = Team::new(None);
    team.settle();
    let (named, only): (Vec<String>, Vec<String>) =
        std::env::args().skip(2).partition(|word| Path::named(word).is_some());
    let path = named.first().and_then(|name| Path::named(name)).unwrap_or(Path::best());
    println!("{path}, {} threads", team.threads());
    let mut x = Activations::default();
    let mut out = vec![1.0; rows * tokens];
    let is_wanted =
        |kind: &TensorType| only.is_empty() || only.iter().any(|name| name == kind.name());
    for tensor_type in TensorType::ALL.iter().copied().filter(is_wanted) {
        // Far more than the caches hold.
        let bytes = tensor_type.row_bytes(columns) * rows;
        let copies = (512usize << 20).div_ceil(bytes);
        // Of floats every value an ordinary number.
        let size = tensor_type.block_bytes();
        let is_high = |at: usize| tensor_type.is_float() && at % size == size - 1;
        let byte = |at: usize| if is_high(at) { 0x3C } else { (at * 7 + at / 255) as u8 & 0x3B };
        let stored: Vec<u8> = (0..bytes * copies).map(byte).collect();
        let (mut reads, mut vectors, mut peaks, mut panels, mut eights) =
            (vec![], vec![], vec![], vec![], vec![]);
        for round in 0..rounds {
            reads.push(limits::memory_read(&team, &stored));
            let values: Vec<f32> = (0..tokens * columns).map(|at| (at as f32).sin()).collect();
            x.prepare(path, &team, tensor_type, &values[..columns], columns);
            let matrix = |copy: usize| {
                let bytes = &stored[copy * bytes..][..bytes];
                Matrix { tensor_type, rows, columns, bytes }
            };
            let seconds = timed(|| {
                for copy in 0..copies {
                    multiply(path, &team, matrix(copy), &x, &mut out[..rows]);
                }
            });
            vectors.push(stored.len() as f64 / seconds);
            x.prepare(path, &team, tensor_type, &values[..8 * columns], columns);
            let seconds = timed(|| {
                for copy in 0..copies {
                    multiply(path, &team, matrix(copy), &x, &mut out[..rows * 8]);
                }
            });
            eights.push(stored.len() as f64 / seconds);
            peaks.push(if tensor_type.is_float() {
                limits::float_peak(path, &team)
            } else {
                limits::integer_peak(path, &team)
            });
            x.prepare(path, &team, tensor_type, &values, columns);
            let copy = round % copies;
            let seconds = timed(|| multiply(path, &team, matrix(copy), &x, &mut out));
            panels.push(2.0 * (rows * columns * tokens) as f64 / seconds);
        }
        let (read, vector, eight) = (median(reads), median(vectors), median(eights));
        let (peak, panel) = (median(peaks), median(panels));
        println!(
            "{:7} read {:5.1} GB/s, one token {:5.1} ({:.2}), eight {:5.1} (x{:.1}); peak {:4.0} Gop/s, {tokens} tokens {:4.0} ({:.2})",
            tensor_type.name(),
            read / 1e9,
            vector / 1e9,
            vector / read,
            eight / 1e9,
            eight * 8.0 / vector,
            peak / 1e9,
            panel / 1e9,
            panel / peak,
        );
    }
}

/// Nanoseconds that a strip of 512 values takes, with everything in the nearest cache as far as it fits: the
/// best of many moments.
fn in_cache(columns: usize) {
    let team = Team::new(std::num::NonZero::new(1));
    let path = Path::best();
    let rows = 16;
    let types: Vec<_> = TensorType::ALL.iter().copied().filter(|kind| !kind.is_float()).collect();
    let mut best = vec![[f64::MAX; 3]; types.len()];
    for _ in 0..ROUNDS {
        for (&tensor_type, best) in types.iter().zip(&mut best) {
            let bytes = tensor_type.row_bytes(columns) * rows;
            let stored: Vec<u8> = (0..bytes).map(|at| (at * 7 + at / 255) as u8 & 0x3B).collect();
            let matrix = Matrix { tensor_type, rows, columns, bytes: &stored[..] };
            for (best, tokens) in best.iter_mut().zip([1, 8, MANY]) {
                let values: Vec<f32> = (0..tokens * columns).map(|at| (at as f32).sin()).collect();
                let mut x = Activations::default();
                x.prepare(path, &team, tensor_type, &values, columns);
                let mut out = vec![0.0; rows * tokens];
                for _ in 0..300 / tokens + 3 {
                    let seconds = timed(|| multiply(path, &team, matrix, &x, &mut out));
                    *best = best.min(seconds * 1e9 / (rows * columns / 512) as f64);
                }
            }
        }
    }
    for (tensor_type, [one, eight, many]) in types.iter().zip(best) {
        println!(
            "{:7} one token {one:6.1} ns ({:4.1} GB/s), eight {eight:6.1}, many {:5.2} each",
            tensor_type.name(),
            tensor_type.row_bytes(512) as f64 / one,
            many / MANY as f64
        );
    }
}
