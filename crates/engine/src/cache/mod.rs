//! Keys and values in pages: [`index`] knows who has which page and what stands in it, [`store`]
//! has those of the layers of a stage.

mod index;
mod store;

use deft_planning::{LoadSettings, PAGE_TOKENS, SPAN_TOKENS};

pub(crate) use index::{PageCopy, PageCount, PageIndex, Sequence};
pub(crate) use store::Store;

/// Tokens of a page.
pub(crate) const PAGE: usize = PAGE_TOKENS as usize;

const _: () = assert!(PAGE == deft_kernels::PAGE && SPAN_TOKENS as usize == deft_kernels::SPAN);

/// Who has which page of an instance.
pub(crate) struct KvCache {
    index: PageIndex,
    /// Beginnings of pages that are to be copied before anything is written.
    copies: Vec<PageCopy>,
}

impl KvCache {
    /// A cache of as many pages as the settings say.
    pub(crate) fn new(settings: &LoadSettings) -> Self {
        Self { index: PageIndex::new(settings.pages()), copies: Vec::new() }
    }

    /// Begins a sequence with what is known already of the longest prefix of `tokens`, at most
    /// `most` tokens of it. The sequence holds that many tokens then.
    ///
    /// What is reused is exactly what computing it again would give: keys and values depend on a
    /// token, those before it, and nothing else.
    pub(crate) fn begin(&mut self, tokens: &[u32], most: usize) -> Sequence {
        let (sequence, copy) = self.index.begin(&tokens[..most.min(tokens.len())]);
        self.copies.extend(copy);
        sequence
    }

    /// What is to be copied before the next step, in this order.
    pub(crate) fn copies(&mut self) -> impl Iterator<Item = PageCopy> {
        self.copies.drain(..)
    }

    /// Makes room for `tokens` more, wholly or not at all. Says whether there is: where it is not,
    /// other sequences have the pages.
    #[must_use]
    pub(crate) fn reserve(&mut self, sequence: &mut Sequence, tokens: usize) -> bool {
        self.index.reserve(sequence, tokens)
    }

    /// How many pages there are of each kind.
    pub(crate) fn count(&self) -> PageCount {
        self.index.count()
    }

    /// Counts tokens as held, after a step wrote them in all layers.
    pub(crate) fn advance(&mut self, sequence: &mut Sequence, tokens: &[u32]) {
        self.index.advance(sequence, tokens);
    }

    /// Ends a sequence; its pages stay known until they are needed for something else.
    pub(crate) fn end(&mut self, sequence: Sequence) {
        self.index.end(sequence);
    }

    /// Ends a sequence and forgets what stood in the pages that nobody else has.
    pub(crate) fn discard(&mut self, sequence: Sequence) {
        self.index.discard(sequence);
    }
}

#[cfg(test)]
mod tests;
