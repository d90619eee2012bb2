//! Products beside the machine's limits, alternating; medians. Run with
//! `cargo run --release --package deft-kernels --example products [rounds [types and paths]]`, `COLUMNS` in the
//! environment for rows of another width than 2,048; `cache
//! [columns]` instead of rounds tells nanoseconds with everything in the nearest cache.
#![expect(clippy::print_stdout, clippy::cast_precision_loss, reason = "a measurement")]

use std::time::Instant;

use deft_formats::quant::TensorType;
use deft_kernels::parts::{Activations, multiply};
use deft_kernels::{Instructions, Matrix, Team, limits};

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
    let team = Team::new(None);
    team.settle();
    let (named, only): (Vec<String>, Vec<String>) =
        std::env::args().skip(2).partition(|word| Instructions::named(word).is_some());
    let path =
        named.first().and_then(|name| Instructions::named(name)).unwrap_or(Instructions::best());
    println!("{path}, {} threads", team.threads());
    let is_wanted =
        |kind: &TensorType| only.is_empty() || only.iter().any(|name| name == kind.name());
    for tensor_type in TensorType::ALL.iter().copied().filter(is_wanted) {
        measure(tensor_type, Shape { path, team: &team, columns, rounds });
    }
}

/// What is the same for all types.
struct Shape<'t> {
    path: Instructions,
    team: &'t Team,
    columns: usize,
    rounds: usize,
}

const ROWS: usize = 8192;
const TOKENS: usize = 256;

/// Bytes of weights; of floats every value an ordinary number.
fn stored(tensor_type: TensorType, bytes: usize) -> Vec<u8> {
    let size = tensor_type.block_bytes();
    let is_high = |at: usize| tensor_type.is_float() && at % size == size - 1;
    let byte = |at: usize| if is_high(at) { 0x3C } else { (at * 7 + at / 255) as u8 & 0x3B };
    (0..bytes).map(byte).collect()
}

fn measure(tensor_type: TensorType, shape: Shape<'_>) {
    let Shape { path, team, columns, rounds } = shape;
    // Far more than the caches hold.
    let bytes = tensor_type.row_bytes(columns) * ROWS;
    let copies = (512usize << 20).div_ceil(bytes);
    let stored = stored(tensor_type, bytes * copies);
    let matrix = |copy: usize| {
        let bytes = &stored[copy * bytes..][..bytes];
        Matrix { tensor_type, rows: ROWS, columns, bytes }
    };
    let values: Vec<f32> = (0..TOKENS * columns).map(|at| (at as f32).sin()).collect();
    let mut x = Activations::default();
    let mut out = vec![1.0; ROWS * TOKENS];
    // Bytes of weights in a second, for so many tokens together.
    let mut together = |tokens: usize| {
        x.prepare(path, team, tensor_type, &values[..tokens * columns], columns);
        let seconds = timed(|| {
            for copy in 0..copies {
                multiply(path, team, matrix(copy), &x, &mut out[..ROWS * tokens]);
            }
        });
        stored.len() as f64 / seconds
    };
    let [mut reads, mut vectors, mut eights, mut peaks, mut panels] = [(); 5].map(|()| vec![]);
    for _ in 0..rounds {
        reads.push(limits::memory_read(team, &stored));
        vectors.push(together(1));
        eights.push(together(8));
    }
    for round in 0..rounds {
        peaks.push(if tensor_type.is_float() {
            limits::float_peak(path, team)
        } else {
            limits::integer_peak(path, team)
        });
        x.prepare(path, team, tensor_type, &values, columns);
        let seconds = timed(|| multiply(path, team, matrix(round % copies), &x, &mut out));
        panels.push(2.0 * (ROWS * columns * TOKENS) as f64 / seconds);
    }
    let (read, vector, eight) = (median(reads), median(vectors), median(eights));
    let (peak, panel) = (median(peaks), median(panels));
    println!(
        "{:7} read {:5.1} GB/s, one token {:5.1} ({:.2}), eight {:5.1} (x{:.1}); peak {:4.0} Gop/s, {TOKENS} tokens {:4.0} ({:.2})",
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

/// Nanoseconds that a strip of 512 values takes, with everything in the nearest cache as far as it fits: the
/// best of many moments.
fn in_cache(columns: usize) {
    let team = Team::new(std::num::NonZero::new(1));
    let path = Instructions::best();
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
