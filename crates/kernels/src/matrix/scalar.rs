//! Matrix products in plain Rust: the specification of all other paths.

use deft_formats::quant::{Blocks, GROUP, STRIP, STRIP_GROUPS, Strip, unpack};
use half::f16;

use super::activations::RoundedStrip;
use super::{PARTIALS, tree};

pub(super) fn f32_row(row: &[u8], x: &[f32]) -> f32 {
    let words = row.as_chunks::<4>().0;
    floats(words.iter().map(|word| f32::from_le_bytes(*word)), x)
}

pub(super) fn f16_row(row: &[u8], x: &[f32]) -> f32 {
    let words = row.as_chunks::<2>().0;
    floats(words.iter().map(|word| f16::from_le_bytes(*word).to_f32()), x)
}

pub(super) fn bf16_row(row: &[u8], x: &[f32]) -> f32 {
    let words = row.as_chunks::<2>().0;
    floats(words.iter().map(|word| f32::from_bits(u32::from(u16::from_le_bytes(*word)) << 16)), x)
}

fn floats(row: impl Iterator<Item = f32>, x: &[f32]) -> f32 {
    let mut partials = [0f32; PARTIALS];
    for (at, (weight, value)) in row.zip(x).enumerate() {
        let partial = &mut partials[at % PARTIALS];
        *partial = weight.mul_add(*value, *partial);
    }
    tree(&partials)
}

/// Multiplies a strip by activations, group by group, and adds the products to the partial sums.
pub(super) fn strip<B: Blocks>(strip: &Strip, x: &RoundedStrip, partials: &mut [f32; PARTIALS]) {
    let wide = |bits: u16| f16::from_bits(bits).to_f32();
    let halves = if B::HALVES { 2 } else { 1 };
    let values = GROUP / halves;
    for (group, partial) in partials.iter_mut().enumerate().take(STRIP_GROUPS) {
        for half in 0..halves {
            let from = group * GROUP + half * values;
            let pairs = strip.quants[from..from + values].iter().zip(&x.quants[from..]);
            let sum: i32 = pairs.map(|(&weight, &x)| i32::from(weight) * i32::from(x)).sum();
            #[expect(clippy::cast_precision_loss, reason = "at most 32 x 255 x 127, exact in f32")]
            let sum = (sum + x.sum_biases[half][group]) as f32;
            let (mut scale, mut min) = (wide(strip.scale[group]), wide(strip.min[group]));
            if B::SUB_SCALES {
                scale *= f32::from(strip.scales[half][group]);
                min *= f32::from(strip.mins[half][group]);
            }
            *partial = sum.mul_add(scale * x.scales[group], *partial);
            if B::MINIMA {
                *partial = (-min).mul_add(x.min_factors[half][group], *partial);
            }
        }
    }
}

/// Multiplies rows of `row_bytes` bytes by the activations of a token.
pub(super) fn rows<B: Blocks>(rows: &[u8], row_bytes: usize, x: &[RoundedStrip], out: &mut [f32]) {
    let mut taken = Strip::default();
    for (row, out) in rows.chunks_exact(row_bytes).zip(out) {
        let mut partials = [0f32; PARTIALS];
        for (blocks, x) in row.chunks(STRIP / B::VALUES * B::BYTES).zip(x) {
            unpack::<B>(blocks, &mut taken);
            strip::<B>(&taken, x, &mut partials);
        }
        *out = tree(&partials);
    }
}
