//! Memory that is asked for before its turn.

use std::arch::x86_64::{_MM_HINT_T1, _mm_prefetch};

/// What comes next, asked for part by part while something else is computed.
#[derive(Debug)]
pub(crate) struct Ahead {
    next: *const u8,
    /// Bytes from one that is asked for to the next.
    step: usize,
    left: usize,
    each: usize,
}

impl Ahead {
    /// Bytes that are asked for in so many parts, one of each `step`.
    pub(crate) fn of(bytes: &[u8], step: usize, parts: usize) -> Self {
        let left = bytes.len().div_ceil(step);
        Self { next: bytes.as_ptr(), step, left, each: left.div_ceil(parts.max(1)) }
    }

    /// Asks for a part.
    #[inline(always)]
    pub(crate) fn fetch(&mut self) {
        for _ in 0..self.each.min(self.left) {
            // SAFETY: asking for an address reads nothing that a program could tell, whatever is there.
            unsafe { _mm_prefetch::<_MM_HINT_T1>(self.next.cast()) };
            self.next = self.next.wrapping_add(self.step);
            self.left -= 1;
        }
    }
}
