//! The specification: obvious and slow.

use deft_formats::quant::Group;
use half::f16;

use super::{BLOCK, PARTIALS, Q8_BYTES, tree};

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

pub(super) fn q8_0_row(row: &[u8], quants: &[i8], scales: &[f32]) -> f32 {
    let mut partials = [0f32; PARTIALS];
    blocks(row, quants, scales, 0, &mut partials);
    tree(&partials)
}

/// Adds blocks to the partial sums; the first of them has number `first`.
#[inline(always)]
pub(super) fn blocks(
    row: &[u8],
    quants: &[i8],
    scales: &[f32],
    first: usize,
    partials: &mut [f32; PARTIALS],
) {
    let stored = row.as_chunks::<Q8_BYTES>().0;
    let quants = quants.as_chunks::<BLOCK>().0;
    for (at, ((block, quants), scale)) in stored.iter().zip(quants).zip(scales).enumerate() {
        let weight_scale = f16::from_le_bytes([block[0], block[1]]).to_f32();
        let sum: i32 = block[2..]
            .iter()
            .zip(quants)
            .map(|(&weight, &quant)| i32::from(weight.cast_signed()) * i32::from(quant))
            .sum();
        let partial = &mut partials[(first + at) % PARTIALS];
        #[expect(clippy::cast_precision_loss, reason = "at most 32 x 128 x 127, exact in f32")]
        let sum = sum as f32;
        *partial = sum.mul_add(weight_scale * scale, *partial);
    }
}

pub(super) fn add_scaled_f32(row: &[u8], weight: f32, out: &mut [f32]) {
    for (sum, word) in out.iter_mut().zip(row.as_chunks::<4>().0) {
        *sum = weight.mul_add(f32::from_le_bytes(*word), *sum);
    }
}

pub(super) fn add_scaled_f16(row: &[u8], weight: f32, out: &mut [f32]) {
    for (sum, word) in out.iter_mut().zip(row.as_chunks::<2>().0) {
        *sum = weight.mul_add(f16::from_le_bytes(*word).to_f32(), *sum);
    }
}

pub(super) fn add_scaled_q8_0(row: &[u8], weight: f32, out: &mut [f32]) {
    for (sums, block) in out.chunks_mut(BLOCK).zip(row.as_chunks::<Q8_BYTES>().0) {
        let factor = weight * f16::from_le_bytes([block[0], block[1]]).to_f32();
        for (sum, quant) in sums.iter_mut().zip(&block[2..]) {
            *sum = factor.mul_add(f32::from(quant.cast_signed()), *sum);
        }
    }
}

pub(super) fn group_row(row: &[Group], quants: &[i8], scales: &[f32], sums: &[i16]) -> f32 {
    let mut partials = [0f32; PARTIALS];
    groups(row, quants, scales, sums, 0, &mut partials);
    tree(&partials)
}

/// Adds groups to the partial sums; the first of them has number `first`.
#[inline(always)]
pub(super) fn groups(
    row: &[Group],
    quants: &[i8],
    scales: &[f32],
    sums: &[i16],
    first: usize,
    partials: &mut [f32; PARTIALS],
) {
    let quants = quants.as_chunks::<BLOCK>().0;
    let sums = sums.as_chunks::<2>().0;
    for (at, (((group, quants), scale), sums)) in
        row.iter().zip(quants).zip(scales).zip(sums).enumerate()
    {
        let half = |half: usize| -> i32 {
            let weights = &group.quants[half * 16..][..16];
            let values = &quants[half * 16..][..16];
            weights.iter().zip(values).map(|(&w, &x)| i32::from(w) * i32::from(x)).sum()
        };
        let [first_scale, second_scale] = group.scales.map(i32::from);
        let product = first_scale * half(0) + second_scale * half(1);
        let [first_min, second_min] = group.mins.map(i32::from);
        let below = first_min * i32::from(sums[0]) + second_min * i32::from(sums[1]);
        let partial = &mut partials[(first + at) % PARTIALS];
        #[expect(clippy::cast_precision_loss, reason = "rounded once, on every path alike")]
        let (product, below) = (product as f32, below as f32);
        *partial = product.mul_add(group.scale * scale, *partial);
        *partial = (-below).mul_add(group.min * scale, *partial);
    }
}
