//! The index of pages: the sequences that use each page, and its tokens.
//!
//! Pages form a tree: the parent of a page has the tokens just before its own. A full page never changes, so any number of
//! sequences can share it. A page that is not full belongs to one sequence; another sequence with the same beginning gets
//! a copy of that part. Unused pages stay cached until they are needed; then the least recently used one without children
//! is freed first.

use std::collections::HashMap;

use super::PAGE;

/// Number of a page.
pub(crate) type PageId = u32;

/// The pages of a lane's tokens, in order.
#[derive(Debug, Default)]
pub(crate) struct Sequence {
    pages: Vec<PageId>,
    length: usize,
}

impl Sequence {
    /// Number of its tokens.
    #[must_use]
    pub(crate) fn length(&self) -> usize {
        self.length
    }

    pub(crate) fn pages(&self) -> &[PageId] {
        &self.pages
    }
}

/// A copy of the beginning of a page.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct PageCopy {
    pub(crate) from: PageId,
    pub(crate) to: PageId,
    pub(crate) tokens: usize,
}

/// Number of pages of each kind.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub(crate) struct PageCount {
    pub(crate) all: usize,
    pub(crate) used: usize,
    pub(crate) known: usize,
}

#[derive(Debug, Default)]
struct Page {
    tokens: Vec<u32>,
    parent: Option<PageId>,
    /// Number of sequences that use it.
    users: u32,
    used_at: u64,
}

/// The tree of pages.
pub(crate) struct PageIndex {
    pages: Vec<Page>,
    /// Pages with tokens, by their parent.
    children: HashMap<Option<PageId>, Vec<PageId>>,
    free: Vec<PageId>,
    /// Number of used pages.
    used: usize,
    clock: u64,
}

impl PageIndex {
    /// An index with `pages` empty pages.
    #[must_use]
    pub(crate) fn new(pages: u32) -> Self {
        Self {
            pages: (0..pages).map(|_| Page::default()).collect(),
            children: HashMap::new(),
            free: (0..pages).rev().collect(),
            used: 0,
            clock: 0,
        }
    }

    fn page(&mut self, id: PageId) -> &mut Page {
        &mut self.pages[id as usize]
    }

    /// Adds a sequence that uses it.
    fn join(&mut self, id: PageId) {
        let page = self.page(id);
        page.users += 1;
        if page.users == 1 {
            self.used += 1;
        }
    }

    fn siblings(&self, parent: Option<PageId>) -> &[PageId] {
        self.children.get(&parent).map_or(&[], Vec::as_slice)
    }

    /// A sequence with the cached part of the beginning of `tokens`.
    pub(crate) fn begin(&mut self, tokens: &[u32]) -> (Sequence, Option<PageCopy>) {
        let mut sequence = Sequence::default();
        let mut rest = tokens;
        while let Some((whole, after)) = rest.split_first_chunk::<PAGE>() {
            let parent = sequence.pages.last().copied();
            let same = |&&id: &&PageId| self.pages[id as usize].tokens == whole;
            let Some(&found) = self.siblings(parent).iter().find(same) else {
                break;
            };
            self.join(found);
            sequence.pages.push(found);
            sequence.length += PAGE;
            rest = after;
        }
        let copy = self.begin_page(&mut sequence, rest);
        self.touch(&sequence);
        (sequence, copy)
    }

    /// Copies the beginning of the page that has most of the next tokens.
    fn begin_page(&mut self, sequence: &mut Sequence, rest: &[u32]) -> Option<PageCopy> {
        let parent = sequence.pages.last().copied();
        let alike = |id: PageId| {
            let known = &self.pages[id as usize].tokens;
            known.iter().zip(rest).take_while(|(known, wanted)| known == wanted).count()
        };
        let best = self.siblings(parent).iter().map(|&id| (alike(id), id)).max_by_key(|b| b.0);
        let (tokens, from) = best.filter(|&(tokens, _)| tokens > 0)?;
        // Used meanwhile, so that it is not freed.
        self.join(from);
        let to = self.take(parent);
        self.leave(from);
        let to = to?;
        sequence.pages.push(to);
        self.advance(sequence, &rest[..tokens]);
        Some(PageCopy { from, to, tokens })
    }

    /// Makes room for `tokens` more tokens, completely or not at all. Returns whether there is room.
    #[must_use]
    pub(crate) fn reserve(&mut self, sequence: &mut Sequence, tokens: usize) -> bool {
        let pages = (sequence.length + tokens).div_ceil(PAGE);
        // Unused pages can be freed: none of them has a used child.
        if pages.saturating_sub(sequence.pages.len()) > self.pages.len() - self.used {
            return false;
        }
        while sequence.pages.len() < pages {
            let parent = sequence.pages.last().copied();
            let Some(page) = self.take(parent) else { return false };
            sequence.pages.push(page);
        }
        true
    }

    /// Number of all pages, of used ones, and of unused ones whose tokens are cached.
    pub(crate) fn count(&self) -> PageCount {
        let (all, used) = (self.pages.len(), self.used);
        PageCount { all, used, known: all - used - self.free.len() }
    }

    /// Adds tokens that were written to the sequence.
    pub(crate) fn advance(&mut self, sequence: &mut Sequence, tokens: &[u32]) {
        let mut rest = tokens;
        while !rest.is_empty() {
            let at = sequence.length % PAGE;
            let (now, after) = rest.split_at(rest.len().min(PAGE - at));
            let id = sequence.pages[sequence.length / PAGE];
            let page = self.page(id);
            debug_assert_eq!(page.tokens.len(), at, "a page's tokens are noted one by one");
            let parent = page.parent;
            page.tokens.extend_from_slice(now);
            if at == 0 {
                self.children.entry(parent).or_default().push(id);
            }
            sequence.length += now.len();
            rest = after;
        }
    }

    fn touch(&mut self, sequence: &Sequence) {
        self.clock += 1;
        for &id in &sequence.pages {
            self.pages[id as usize].used_at = self.clock;
        }
    }

    pub(crate) fn end(&mut self, sequence: Sequence) {
        self.touch(&sequence);
        for id in sequence.pages.into_iter().rev() {
            self.leave(id);
        }
    }

    pub(crate) fn discard(&mut self, sequence: Sequence) {
        for id in sequence.pages.into_iter().rev() {
            let page = self.page(id);
            if page.users == 1 && self.siblings(Some(id)).is_empty() {
                self.forget(id);
            }
            self.leave(id);
        }
    }

    fn leave(&mut self, id: PageId) {
        let page = self.page(id);
        page.users -= 1;
        if page.users > 0 {
            return;
        }
        if page.tokens.is_empty() {
            page.parent = None;
            self.free.push(id);
        }
        self.used -= 1;
    }

    /// Removes a page from the tree.
    fn forget(&mut self, id: PageId) {
        let page = self.page(id);
        page.tokens.clear();
        let parent = page.parent;
        if let Some(siblings) = self.children.get_mut(&parent) {
            siblings.retain(|&sibling| sibling != id);
            if siblings.is_empty() {
                self.children.remove(&parent);
            }
        }
    }

    /// An empty page for one sequence.
    fn take(&mut self, parent: Option<PageId>) -> Option<PageId> {
        let id = match self.free.pop() {
            Some(id) => id,
            None => {
                let id = self.least_used()?;
                self.forget(id);
                id
            }
        };
        let page = self.page(id);
        page.parent = parent;
        self.join(id);
        Some(id)
    }

    /// The least recently used page without children, among unused ones.
    fn least_used(&self) -> Option<PageId> {
        let idle = (0..).zip(&self.pages).filter(|(id, page)| {
            page.users == 0 && !page.tokens.is_empty() && self.siblings(Some(*id)).is_empty()
        });
        idle.min_by_key(|(_, page)| page.used_at).map(|(id, _)| id)
    }

    /// Number of unused pages with cached tokens, and of empty pages.
    #[cfg(test)]
    pub(super) fn idle(&self) -> (usize, usize) {
        let known = self.pages.iter().filter(|page| page.users == 0 && !page.tokens.is_empty());
        assert_eq!(self.count().known, known.clone().count(), "what is counted is there");
        (known.count(), self.free.len())
    }

    /// Tokens of a page, and the number of sequences that use it.
    #[cfg(test)]
    pub(super) fn contents(&self, id: PageId) -> (&[u32], u32) {
        let page = &self.pages[id as usize];
        (&page.tokens, page.users)
    }
}
