//! Keys and values in pages: [`index`] has the sequences and tokens of each page, [`store`] the keys and values of a
//! stage's layers.

mod index;
mod store;

use deft_planning::{LoadSettings, PAGE_TOKENS, SPAN_TOKENS};

pub(crate) use index::{PageCopy, PageCount, PageIndex, Sequence};
pub(crate) use store::Store;

/// Tokens of a page.
pub(crate) const PAGE: usize = PAGE_TOKENS as usize;

const _: () = assert!(PAGE == deft_kernels::PAGE && SPAN_TOKENS as usize == deft_kernels::SPAN);

/// The KV cache of an instance: which sequence uses which page.
pub(crate) struct KvCache {
    index: PageIndex,
    /// Copies of beginnings of pages, which must be made before the next step.
    copies: Vec<PageCopy>,
}

impl KvCache {
    /// A cache with the number of pages that the settings need.
    pub(crate) fn new(settings: &LoadSettings) -> Self {
        Self { index: PageIndex::new(settings.pages()), copies: Vec::new() }
    }

    /// Begins a sequence with the longest cached prefix of `tokens`, of at most `most` tokens.
    ///
    /// Cached keys and values equal computed ones, because they depend only on a token and on those before it.
    pub(crate) fn begin(&mut self, tokens: &[u32], most: usize) -> Sequence {
        let (sequence, copy) = self.index.begin(&tokens[..most.min(tokens.len())]);
        self.copies.extend(copy);
        sequence
    }

    /// Copies that must be made before the next step, in this order.
    pub(crate) fn copies(&mut self) -> impl Iterator<Item = PageCopy> {
        self.copies.drain(..)
    }

    /// Makes room for `tokens` more tokens, completely or not at all. Returns whether there is room; if not, other
    /// sequences use the pages.
    #[must_use]
    pub(crate) fn reserve(&mut self, sequence: &mut Sequence, tokens: usize) -> bool {
        self.index.reserve(sequence, tokens)
    }

    /// Number of pages of each kind.
    pub(crate) fn count(&self) -> PageCount {
        self.index.count()
    }

    /// Adds tokens to a sequence, after a step has written them in all layers.
    pub(crate) fn advance(&mut self, sequence: &mut Sequence, tokens: &[u32]) {
        self.index.advance(sequence, tokens);
    }

    /// Ends a sequence; its tokens stay cached until their pages are needed.
    pub(crate) fn end(&mut self, sequence: Sequence) {
        self.index.end(sequence);
    }

    /// Ends a sequence, and removes its tokens from the cache unless other sequences use their pages.
    pub(crate) fn discard(&mut self, sequence: Sequence) {
        self.index.discard(sequence);
    }
}

#[cfg(test)]
mod tests;
