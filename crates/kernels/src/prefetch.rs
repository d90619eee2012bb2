//! Prefetching: memory is requested before it is needed, so that it is in a cache by then.

use std::arch::x86_64::{_MM_HINT_T0, _MM_HINT_T1, _mm_prefetch};

use deft_formats::quant::{Blocks, STRIP};

/// Bytes of a cache line.
pub(crate) const CACHE_LINE: usize = 64;

/// Distance in bytes at which weights are prefetched for a single token. The processor prefetches by itself, but not
/// beyond a page of 4 KiB.
pub(crate) const PREFETCH_DISTANCE: usize = 4096;

/// Prefetches a strip that begins `ahead` bytes after the beginning of `blocks`.
#[inline(always)]
pub(crate) fn prefetch_strip<B: Blocks>(blocks: &[u8], ahead: usize) {
    prefetch_lines(blocks, ahead, STRIP / B::VALUES * B::BYTES);
}

/// Prefetches as many bytes as `bytes` has, `ahead` bytes after its beginning.
#[inline(always)]
pub(crate) fn prefetch_bytes(bytes: &[u8], ahead: usize) {
    prefetch_lines(bytes, ahead, bytes.len());
}

#[inline(always)]
fn prefetch_lines(bytes: &[u8], ahead: usize, length: usize) {
    let next = bytes.as_ptr().wrapping_add(ahead);
    for line in 0..length.div_ceil(CACHE_LINE) {
        // SAFETY: a prefetch of any address, valid or not, has no effect that a program can observe.
        unsafe { _mm_prefetch::<_MM_HINT_T0>(next.wrapping_add(line * CACHE_LINE).cast()) };
    }
}

/// A region that is prefetched part by part while something else is computed.
#[derive(Debug)]
pub(crate) struct Prefetch {
    next: *const u8,
    /// Number of cache lines that are not prefetched yet.
    left: usize,
    /// Number of cache lines of a part.
    each: usize,
}

impl Prefetch {
    /// The region, divided into `parts` parts.
    pub(crate) fn of(bytes: &[u8], parts: usize) -> Self {
        let left = bytes.len().div_ceil(CACHE_LINE);
        // The division would be slow in comparison with an empty region.
        let each = if left == 0 { 0 } else { left.div_ceil(parts.max(1)) };
        Self { next: bytes.as_ptr(), left, each }
    }

    /// Prefetches the next part.
    #[inline(always)]
    pub(crate) fn fetch(&mut self) {
        for _ in 0..self.each.min(self.left) {
            // SAFETY: a prefetch of any address, valid or not, has no effect that a program can observe.
            unsafe { _mm_prefetch::<_MM_HINT_T1>(self.next.cast()) };
            self.next = self.next.wrapping_add(CACHE_LINE);
            self.left -= 1;
        }
    }
}

/// A region in parts of equal length. While a part of the current data is processed, the same part of the next data is
/// prefetched.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Parts {
    start: *const u8,
    length: usize,
}

impl Parts {
    /// The region, divided into `parts` parts. An empty region is replaced by the current data, whose prefetch costs
    /// nothing.
    pub(crate) fn of(bytes: &[u8], parts: usize, here: &[u8]) -> Self {
        let start = if bytes.is_empty() { here.as_ptr() } else { bytes.as_ptr() };
        Self { start, length: bytes.len() / parts.max(1) }
    }

    /// Length of a part in bytes.
    pub(crate) fn length(self) -> usize {
        self.length
    }

    /// Prefetches the cache line at an offset of a part.
    #[inline(always)]
    pub(crate) fn fetch(self, part: usize, offset: usize) {
        // SAFETY: a prefetch of any address, valid or not, has no effect that a program can observe.
        unsafe {
            let line = self.start.wrapping_add(part * self.length + offset);
            _mm_prefetch::<_MM_HINT_T0>(line.cast());
        }
    }
}
