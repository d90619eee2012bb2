//! Merging of neighbours, the best pair first: the loop that both kinds of BPE share.

use std::cmp::Reverse;
use std::collections::BinaryHeap;

/// A range of the input that currently is one symbol.
#[derive(Debug, Clone, Copy)]
pub(super) struct Symbol {
    /// First byte in the text.
    pub(super) start: usize,
    /// One past the last byte; equal to `start` after it was merged into the previous symbol.
    pub(super) end: usize,
    /// Its token, if there is one.
    pub(super) id: Option<u32>,
    previous: Option<usize>,
    next: Option<usize>,
}

/// Symbols of consecutive ranges.
pub(super) fn symbols(
    runs: impl Iterator<Item = (std::ops::Range<usize>, Option<u32>)>,
) -> Vec<Symbol> {
    let mut symbols: Vec<Symbol> = runs
        .enumerate()
        .map(|(at, (range, id))| Symbol {
            start: range.start,
            end: range.end,
            id,
            previous: at.checked_sub(1),
            next: Some(at + 1),
        })
        .collect();
    if let Some(last) = symbols.last_mut() {
        last.next = None;
    }
    symbols
}

/// Merges until no pair can be merged: the smallest order first, and the leftmost of equal ones. `join` returns the order of
/// a pair and its merged token. Symbols that were merged into others stay in the list, empty.
pub(super) fn merge<O: Ord>(
    symbols: &mut [Symbol],
    join: impl Fn(&Symbol, &Symbol) -> Option<(O, u32)>,
) {
    let mut heap = BinaryHeap::new();
    let propose = |heap: &mut BinaryHeap<_>, symbols: &[Symbol], left: usize, right: usize| {
        if let Some((order, id)) = join(&symbols[left], &symbols[right]) {
            // The outer ends show later whether the pair has changed.
            heap.push(Reverse((order, left, right, symbols[left].end, symbols[right].end, id)));
        }
    };
    for right in 1..symbols.len() {
        propose(&mut heap, symbols, right - 1, right);
    }
    while let Some(Reverse((_, left, right, left_end, right_end, id))) = heap.pop() {
        let alive = symbols[left].start < symbols[left].end && symbols[right].start < right_end;
        if !alive || symbols[left].end != left_end || symbols[right].end != right_end {
            continue;
        }
        let next = symbols[right].next;
        symbols[left].end = right_end;
        symbols[left].id = Some(id);
        symbols[left].next = next;
        symbols[right].start = symbols[right].end;
        if let Some(next) = next {
            symbols[next].previous = Some(left);
            propose(&mut heap, symbols, left, next);
        }
        if let Some(previous) = symbols[left].previous {
            propose(&mut heap, symbols, previous, left);
        }
    }
}
