//! The rest of a row after its last whole strip.
//!
//! It is unpacked like a strip. Missing groups are read from what follows in memory, usually the next row: their quants
//! are multiplied by activations that are zero, and their scales are replaced by zero here.

use std::arch::x86_64::*;

use deft_formats::quant::{Blocks, GROUP, STRIP};

use super::REGISTERS;
use super::quants::{Wide, load};
use super::scales::Scales;

/// Most bytes of a strip.
const MOST_BYTES: usize = STRIP / 32 * 34;

/// Buffer for a rest at the end of the memory.
#[derive(Debug, Clone, Copy)]
pub(in crate::matrix) struct Room([u8; MOST_BYTES]);

impl Default for Room {
    fn default() -> Self {
        Self([0; MOST_BYTES])
    }
}

impl Room {
    /// A strip that begins with the first `bytes` of the stored ones.
    fn strip<'a, B: Blocks>(&'a mut self, stored: &'a [u8], bytes: usize) -> &'a [u8] {
        let whole = const { STRIP / B::VALUES * B::BYTES };
        const { assert!(STRIP / B::VALUES * B::BYTES <= MOST_BYTES) };
        if let Some(strip) = stored.get(..whole) {
            return strip;
        }
        self.0[..bytes].copy_from_slice(&stored[..bytes]);
        &self.0[..whole]
    }
}

/// Number of groups in that many bytes.
fn groups_of<B: Blocks>(bytes: usize) -> usize {
    bytes / B::BYTES * (B::VALUES / GROUP)
}

/// Unpacks the first `bytes` of the stored ones: quants, two groups in each register, and scales.
#[target_feature(enable = "avx512f,avx512bw,avx512dq,avx512vl,avx2,fma,f16c")]
#[inline]
pub(super) fn groups<B: Wide>(
    stored: &[u8],
    bytes: usize,
    room: &mut Room,
) -> ([__m512i; REGISTERS], Scales) {
    let (strip, groups) = (room.strip::<B>(stored, bytes).as_ptr(), groups_of::<B>(bytes));
    // SAFETY: these are blocks of 512 values.
    unsafe { (load::<B>(strip, groups.div_ceil(2)), B::scales_of(strip).of_first(groups)) }
}

/// The same, with four quants of each group in a register.
#[target_feature(enable = "avx512f,avx512bw,avx512dq,avx512vl,avx2,fma,f16c")]
#[inline]
pub(super) fn interleaved<B: Wide>(
    stored: &[u8],
    bytes: usize,
    room: &mut Room,
) -> ([__m512i; REGISTERS], Scales) {
    let (strip, groups) = (room.strip::<B>(stored, bytes).as_ptr(), groups_of::<B>(bytes));
    // SAFETY: these are blocks of 512 values.
    unsafe { (B::interleaved(strip), B::scales_of(strip).of_first(groups)) }
}
