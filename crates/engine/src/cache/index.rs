//! Who has which page, and which tokens stand in it.
//!
//! Pages form a tree: a page's parent holds the tokens just before its own. A full page never
//! changes again, so any number of sequences may have it; a page that is not full belongs to one
//! sequence, and another that begins alike gets a copy of its beginning. Pages that nobody has stay
//! known until they are needed: then the one goes that was used longest ago and has no child.

use std::collections::HashMap;

use super::PAGE;

/// Number of a page.
pub(crate) type PageId = u32;

/// One lane's place in the cache: which pages hold its tokens, in order.
#[derive(Debug, Default)]
pub(crate) struct Sequence {
    pages: Vec<PageId>,
    length: usize,
}

impl Sequence {
    /// Tokens it holds.
    #[must_use]
    pub(crate) fn length(&self) -> usize {
        self.length
    }

    pub(crate) fn pages(&self) -> &[PageId] {
        &self.pages
    }
}

/// The beginning of a page that is to be copied.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct PageCopy {
    pub(crate) from: PageId,
    pub(crate) to: PageId,
    pub(crate) tokens: usize,
}

/// How many pages there are of each kind.
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
    /// Sequences that have it.
    users: u32,
    used_at: u64,
}

/// The tree of pages.
pub(crate) struct PageIndex {
    pages: Vec<Page>,
    /// Pages with tokens, by their parent.
    children: HashMap<Option<PageId>, Vec<PageId>>,
    free: Vec<PageId>,
    /// Pages that sequences have.
    used: usize,
    clock: u64,
}

impl PageIndex {
    /// So many empty pages.
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

    /// One sequence more has it.
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

    /// A sequence that holds as much of the beginning of `tokens` as is known.
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

    /// Goes on with the page that has most of the next tokens, by a copy of that part.
    fn begin_page(&mut self, sequence: &mut Sequence, rest: &[u32]) -> Option<PageCopy> {
        let parent = sequence.pages.last().copied();
        let alike = |id: PageId| {
            let known = &self.pages[id as usize].tokens;
            known.iter().zip(rest).take_while(|(known, wanted)| known == wanted).count()
        };
        let best = self.siblings(parent).iter().map(|&id| (alike(id), id)).max_by_key(|b| b.0);
        let (tokens, from) = best.filter(|&(tokens, _)| tokens > 0)?;
        // Held meanwhile, so that making room does not take it away.
        self.join(from);
        let to = self.take(parent);
        self.leave(from);
        let to = to?;
        sequence.pages.push(to);
        self.advance(sequence, &rest[..tokens]);
        Some(PageCopy { from, to, tokens })
    }

    /// Makes room for `tokens` more, wholly or not at all. Says whether there is.
    #[must_use]
    pub(crate) fn reserve(&mut self, sequence: &mut Sequence, tokens: usize) -> bool {
        let pages = (sequence.length + tokens).div_ceil(PAGE);
        // What nobody has can be had: of such pages none has a child that somebody has.
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

    /// Pages in all, those that sequences have, and those that are known for their tokens only.
    pub(crate) fn count(&self) -> PageCount {
        let (all, used) = (self.pages.len(), self.used);
        PageCount { all, used, known: all - used - self.free.len() }
    }

    /// Notes tokens that were written after those already held.
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

    /// Takes a page out of the tree.
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

    /// The page that nobody has and that was used longest ago, among those without children.
    fn least_used(&self) -> Option<PageId> {
        let idle = (0..).zip(&self.pages).filter(|(id, page)| {
            page.users == 0 && !page.tokens.is_empty() && self.siblings(Some(*id)).is_empty()
        });
        idle.min_by_key(|(_, page)| page.used_at).map(|(id, _)| id)
    }

    /// Pages in no sequence that are known for their tokens, and pages that are empty.
    #[cfg(test)]
    pub(super) fn idle(&self) -> (usize, usize) {
        let known = self.pages.iter().filter(|page| page.users == 0 && !page.tokens.is_empty());
        assert_eq!(self.count().known, known.clone().count(), "what is counted is there");
        (known.count(), self.free.len())
    }

    /// What stands in a page, and how many sequences have it.
    #[cfg(test)]
    pub(super) fn contents(&self, id: PageId) -> (&[u32], u32) {
        let page = &self.pages[id as usize];
        (&page.tokens, page.users)
    }
}
