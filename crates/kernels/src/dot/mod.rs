//! Dot products of a stored row with activations.
//!
//! **The order.** A row is summed into sixteen partial sums. For float rows, element `i` goes to
//! partial sum `i mod 16` by one fused multiply-add; for rows in blocks of 32 the exact integer sum
//! of block `b` is multiplied by the product of the two scales and added to partial sum `b mod 16`,
//! fused as well. At the end partial sums 8 apart are added, then 4, 2 and 1 apart. Every path
//! keeps this order, so all paths agree bit for bit.

#[cfg(target_arch = "x86_64")]
mod avx2;
pub(crate) mod scalar;

use deft_formats::quant::Group;

use crate::Path;

/// Number of partial sums.
pub(crate) const PARTIALS: usize = 16;
/// Values in a block of eight-bit activations and of `Q8_0`.
pub(crate) const BLOCK: usize = 32;
/// Bytes in a stored `Q8_0` block: a half-precision scale and 32 signed bytes.
pub(crate) const Q8_BYTES: usize = 2 + BLOCK;

/// The fixed tree at the end of every sum.
pub(crate) fn tree(partials: &[f32; PARTIALS]) -> f32 {
    let mut sums = *partials;
    for width in [8, 4, 2, 1] {
        for at in 0..width {
            sums[at] += sums[at + width];
        }
    }
    sums[0]
}

/// `F32` row (little-endian bytes) times `x`.
///
/// # Panics
/// When the row does not hold as many values as `x`.
#[must_use]
pub fn f32_row(path: Path, row: &[u8], x: &[f32]) -> f32 {
    assert_eq!(row.len(), x.len() * 4, "row and activations differ in length");
    match path {
        #[cfg(target_arch = "x86_64")]
        // SAFETY: a `Path::Avx2` exists only where `runs_here` found the features (checked again
        // by the debug assertion); the lengths were asserted above.
        Path::Avx2 => unsafe {
            debug_assert!(path.runs_here());
            avx2::f32_row(row, x)
        },
        _ => scalar::f32_row(row, x),
    }
}

/// Two rows of floats, in the order of `F32` rows.
///
/// # Panics
/// When they differ in length.
#[must_use]
pub fn floats(path: Path, row: &[f32], x: &[f32]) -> f32 {
    const { assert!(cfg!(target_endian = "little"), "rows are stored little-endian") };
    f32_row(path, bytemuck::cast_slice(row), x)
}

/// `F16` row (little-endian bytes) times `x`.
///
/// # Panics
/// When the row does not hold as many values as `x`.
#[must_use]
pub fn f16_row(path: Path, row: &[u8], x: &[f32]) -> f32 {
    assert_eq!(row.len(), x.len() * 2, "row and activations differ in length");
    match path {
        #[cfg(target_arch = "x86_64")]
        // SAFETY: as in `f32_row`.
        Path::Avx2 => unsafe {
            debug_assert!(path.runs_here());
            avx2::f16_row(row, x)
        },
        _ => scalar::f16_row(row, x),
    }
}

/// `Q8_0` row times activations in eight bits: `quants` has 32 per block, within -127..=127,
/// `scales` one per block.
///
/// # Panics
/// When the three do not have the same number of blocks.
#[must_use]
pub fn q8_0_row(path: Path, row: &[u8], quants: &[i8], scales: &[f32]) -> f32 {
    assert_eq!(row.len(), scales.len() * Q8_BYTES, "row and activations differ in blocks");
    assert_eq!(quants.len(), scales.len() * BLOCK, "quants and scales differ in blocks");
    match path {
        #[cfg(target_arch = "x86_64")]
        // SAFETY: as in `f32_row`.
        Path::Avx2 => unsafe {
            debug_assert!(path.runs_here());
            avx2::q8_0_row(row, quants, scales)
        },
        _ => scalar::q8_0_row(row, quants, scales),
    }
}

/// `BF16` row (little-endian bytes) times `x`.
///
/// # Panics
/// When the row does not hold as many values as `x`.
#[must_use]
pub fn bf16_row(path: Path, row: &[u8], x: &[f32]) -> f32 {
    assert_eq!(row.len(), x.len() * 2, "row and activations differ in length");
    match path {
        #[cfg(target_arch = "x86_64")]
        // SAFETY: as in `f32_row`.
        Path::Avx2 => unsafe {
            debug_assert!(path.runs_here());
            avx2::bf16_row(row, x)
        },
        _ => scalar::bf16_row(row, x),
    }
}

/// A row of unpacked groups times activations in eight bits: `quants` has 32 per group, within
/// -127..=127, `scales` one per group, `sums` the sums of each 16 quants.
///
/// A group adds two fused products to its partial sum: the integer sum of quants times activations,
/// weighted by the integer scales, times both scales; then, taken away, the integer sum of minima
/// times sums, times minimum and activation scale.
///
/// # Panics
/// When they do not have the same number of groups.
#[must_use]
pub fn group_row(path: Path, row: &[Group], quants: &[i8], scales: &[f32], sums: &[i16]) -> f32 {
    assert_eq!(row.len(), scales.len(), "row and activations differ in groups");
    assert_eq!(quants.len(), scales.len() * BLOCK, "quants and scales differ in groups");
    assert_eq!(sums.len(), scales.len() * 2, "sums and scales differ in groups");
    match path {
        #[cfg(target_arch = "x86_64")]
        // SAFETY: as in `f32_row`.
        Path::Avx2 => unsafe {
            debug_assert!(path.runs_here());
            avx2::group_row(row, quants, scales, sums)
        },
        _ => scalar::group_row(row, quants, scales, sums),
    }
}

/// `out += weight * row`, element by element, by one fused multiply-add; the row is `F32`.
///
/// # Panics
/// When the row does not hold as many values as `out`.
pub fn add_scaled_f32(path: Path, row: &[u8], weight: f32, out: &mut [f32]) {
    assert_eq!(row.len(), out.len() * 4, "row and output differ in length");
    match path {
        #[cfg(target_arch = "x86_64")]
        // SAFETY: as in `f32_row`.
        Path::Avx2 => unsafe {
            debug_assert!(path.runs_here());
            avx2::add_scaled_f32(row, weight, out);
        },
        _ => scalar::add_scaled_f32(row, weight, out),
    }
}

/// `out += weight * row`, element by element, by one fused multiply-add; the row is `F16`.
///
/// # Panics
/// When the row does not hold as many values as `out`.
pub fn add_scaled_f16(path: Path, row: &[u8], weight: f32, out: &mut [f32]) {
    assert_eq!(row.len(), out.len() * 2, "row and output differ in length");
    match path {
        #[cfg(target_arch = "x86_64")]
        // SAFETY: as in `f32_row`.
        Path::Avx2 => unsafe {
            debug_assert!(path.runs_here());
            avx2::add_scaled_f16(row, weight, out);
        },
        _ => scalar::add_scaled_f16(row, weight, out),
    }
}

/// `out += weight * row`, element by element, by one fused multiply-add; the row is `Q8_0`. The
/// weight is multiplied by each block's scale first.
///
/// # Panics
/// When the row does not hold as many values as `out`.
pub fn add_scaled_q8_0(path: Path, row: &[u8], weight: f32, out: &mut [f32]) {
    assert_eq!(row.len(), out.len() / BLOCK * Q8_BYTES, "row and output differ in length");
    match path {
        #[cfg(target_arch = "x86_64")]
        // SAFETY: as in `f32_row`.
        Path::Avx2 => unsafe {
            debug_assert!(path.runs_here());
            avx2::add_scaled_q8_0(row, weight, out);
        },
        _ => scalar::add_scaled_q8_0(row, weight, out),
    }
}

#[cfg(test)]
mod tests;
