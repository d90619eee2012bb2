//! Attention beside the machine's limits, alternating; medians. Run with
//! `cargo run --release --package deft-kernels --example attention [rounds [path]]`. Four heads of keys and
//! values of 64, eight queries each, 8,192 positions in each of 22 layers.
#![expect(clippy::print_stdout, clippy::cast_precision_loss, reason = "a measurement")]

use std::time::Instant;

use deft_formats::quant::TensorType;
use deft_kernels::parts::{Attention, SpanSums, attend};
use deft_kernels::{Cached, Instructions, Look, PAGE, Team, limits};

const HEADS: usize = 4;
const GROUP: usize = 8;
const LENGTH: usize = 64;
const POSITIONS: usize = 8192;
const LAYERS: usize = 22;
/// Positions of one layer that stay in the second cache.
const NEAR: usize = 512;
/// Tokens of a prompt that are taken in together, as the last ones of so many positions.
const TOKENS: usize = 256;

fn median(mut values: Vec<f64>) -> f64 {
    values.sort_by(f64::total_cmp);
    values[values.len() / 2]
}

/// Keys or values of all layers: small ordinary numbers.
fn stored(tensor_type: TensorType) -> Vec<u8> {
    let bytes = LAYERS * POSITIONS * HEADS * tensor_type.row_bytes(LENGTH);
    (0..bytes).map(|at| if at % 2 == 1 { 0x2C } else { (at * 7 + at / 255) as u8 }).collect()
}

/// Seconds that looks take in each of so many layers, on average.
fn layer_seconds(
    (path, team): (Instructions, &Team),
    tensor_type: TensorType,
    [keys, values]: [&[u8]; 2],
    looks: &[Look],
    layers: usize,
) -> f64 {
    let queries: Vec<f32> =
        (0..looks.len() * HEADS * GROUP * LENGTH).map(|at| (at as f32).sin()).collect();
    let mut out = vec![0.0; queries.len()];
    let mut aside = SpanSums::with_room(looks.len() * HEADS * GROUP, POSITIONS, LENGTH);
    let numbers: Vec<u32> = (0..(POSITIONS / PAGE) as u32).collect();
    let layer = keys.len() / LAYERS;
    let began = Instant::now();
    for at in 0..layers {
        let cached = |bytes| Cached { tensor_type, length: LENGTH, heads: HEADS, bytes };
        let attention = Attention {
            keys: cached(&keys[at * layer..][..layer]),
            values: cached(&values[at * layer..][..layer]),
            pages: &[&numbers],
            heads: HEADS * GROUP,
            scale: 0.125,
            cap: None,
        };
        attend(path, team, &attention, looks, &queries, &mut out, &mut aside);
    }
    began.elapsed().as_secs_f64() / layers as f64
}

fn main() {
    let words: Vec<String> = std::env::args().skip(1).collect();
    let rounds = words.first().and_then(|text| text.parse().ok()).unwrap_or(9);
    let path =
        words.get(1).and_then(|name| Instructions::named(name)).unwrap_or(Instructions::best());
    let team = Team::new(None);
    team.settle();
    println!("{path}, {} threads", team.threads());
    let one = |end| [Look { sequence: 0, first: 0, end }];
    let many: Vec<Look> = (POSITIONS - TOKENS..POSITIONS)
        .map(|at| Look { sequence: 0, first: 0, end: at + 1 })
        .collect();
    // What a thread spends on a page of a head with its eight queries.
    let page = |seconds: f64, positions: usize| {
        seconds * 1e9 * team.threads() as f64 / (HEADS * positions / PAGE) as f64
    };
    for tensor_type in [TensorType::F16, TensorType::Q8_0, TensorType::F32] {
        let both = [stored(tensor_type), stored(tensor_type)];
        let both = [&both[0][..], &both[1][..]];
        let measure =
            |looks: &[Look], layers| layer_seconds((path, &team), tensor_type, both, looks, layers);
        let (mut reads, mut far, mut near, mut peaks, mut prompts) =
            (vec![], vec![], vec![], vec![], vec![]);
        for _ in 0..rounds {
            reads.push(limits::memory_read(&team, both[0]));
            far.push(page(measure(&one(POSITIONS), LAYERS), POSITIONS));
            let least = (0..100).map(|_| measure(&one(NEAR), 1)).fold(f64::MAX, f64::min);
            near.push(page(least, NEAR));
            peaks.push(limits::float_peak(path, &team));
            let seen: usize = many.iter().map(|look| look.end).sum();
            let operations = 4 * seen * HEADS * GROUP * LENGTH;
            prompts.push(operations as f64 / measure(&many, 2));
        }
        let (read, far, near) = (median(reads), median(far), median(near));
        let (peak, prompt) = (median(peaks), median(prompts));
        let bytes = 2 * PAGE * tensor_type.row_bytes(LENGTH);
        println!(
            "{:5} a page of a head, eight queries: {far:5.0} ns from memory ({:.2} of its speed), {near:5.0} near; {TOKENS} tokens {:4.0} Gop/s ({:.2} of {:4.0})",
            tensor_type.name(),
            bytes as f64 * team.threads() as f64 * 1e9 / far / read,
            prompt / 1e9,
            prompt / peak,
            peak / 1e9,
        );
    }
}
