//! Memory that is asked for before its turn.

use std::arch::x86_64::{_MM_HINT_T0, _MM_HINT_T1, _mm_prefetch};

use deft_formats::quant::{Blocks, STRIP};

/// Bytes of a line of the caches.
pub(crate) const CACHE_LINE: usize = 64;

/// Bytes that a single token's weights are asked for ahead. The processor does that by itself within a page of
/// 4 KiB only.
pub(crate) const PREFETCH_DISTANCE: usize = 4096;

/// Asks for the strip that begins so many bytes after another one.
#[inline(always)]
pub(crate) fn prefetch_strip<B: Blocks>(blocks: &[u8], ahead: usize) {
    prefetch_lines(blocks, ahead, STRIP / B::VALUES * B::BYTES);
}

/// Asks for what is as long as some bytes and begins so many bytes after them.
#[inline(always)]
pub(crate) fn prefetch_bytes(bytes: &[u8], ahead: usize) {
    prefetch_lines(bytes, ahead, bytes.len());
}

#[inline(always)]
fn prefetch_lines(bytes: &[u8], ahead: usize, length: usize) {
    let next = bytes.as_ptr().wrapping_add(ahead);
    for line in 0..length.div_ceil(CACHE_LINE) {
        // SAFETY: asking for an address reads nothing that a program could tell, whatever is there.
        unsafe { _mm_prefetch::<_MM_HINT_T0>(next.wrapping_add(line * CACHE_LINE).cast()) };
    }
}

/// What comes next, asked for part by part while something else is computed.
#[derive(Debug)]
pub(crate) struct Prefetch {
    next: *const u8,
    /// Lines.
    left: usize,
    each: usize,
}

impl Prefetch {
    /// Bytes that are asked for in so many parts.
    pub(crate) fn of(bytes: &[u8], parts: usize) -> Self {
        let left = bytes.len().div_ceil(CACHE_LINE);
        // A division takes long where there is little else to do.
        let each = if left == 0 { 0 } else { left.div_ceil(parts.max(1)) };
        Self { next: bytes.as_ptr(), left, each }
    }

    /// Asks for a part.
    #[inline(always)]
    pub(crate) fn fetch(&mut self) {
        for _ in 0..self.each.min(self.left) {
            // SAFETY: asking for an address reads nothing that a program could tell, whatever is there.
            unsafe { _mm_prefetch::<_MM_HINT_T1>(self.next.cast()) };
            self.next = self.next.wrapping_add(CACHE_LINE);
            self.left -= 1;
        }
    }
}

/// What comes next, in parts of equal length, each asked for while its like is worked on.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Parts {
    start: *const u8,
    length: usize,
}

impl Parts {
    /// Bytes in so many parts. Where there are none, what is here is asked for again, which costs nothing.
    pub(crate) fn of(bytes: &[u8], parts: usize, here: &[u8]) -> Self {
        let start = if bytes.is_empty() { here.as_ptr() } else { bytes.as_ptr() };
        Self { start, length: bytes.len() / parts.max(1) }
    }

    /// Bytes of a part.
    pub(crate) fn length(self) -> usize {
        self.length
    }

    /// Asks for a line of a part.
    #[inline(always)]
    pub(crate) fn fetch(self, part: usize, offset: usize) {
        // SAFETY: asking for an address reads nothing that a program could tell, whatever is there.
        unsafe {
            let line = self.start.wrapping_add(part * self.length + offset);
            _mm_prefetch::<_MM_HINT_T0>(line.cast());
        }
    }
}
