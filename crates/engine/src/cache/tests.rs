//! Pages are never lost, never used twice, and contain the tokens that the index lists.

use proptest::prelude::*;

use super::index::{PageCopy, PageId};
use super::*;

/// A cache without numbers: each slot of each page contains the tokens up to its position, because keys and values depend on
/// them.
struct Imagined {
    index: PageIndex,
    written: Vec<[Vec<u32>; PAGE]>,
    pages: usize,
}

struct Lane {
    sequence: Sequence,
    tokens: Vec<u32>,
}

impl Imagined {
    fn new(pages: usize) -> Self {
        let written = (0..pages).map(|_| std::array::from_fn(|_| Vec::new())).collect();
        Self { index: PageIndex::new(pages as u32), written, pages }
    }

    fn begin(&mut self, tokens: &[u32], most: usize) -> Lane {
        let (sequence, copy) = self.index.begin(&tokens[..most]);
        if let Some(PageCopy { from, to, tokens }) = copy {
            for slot in 0..tokens {
                self.written[to as usize][slot] = self.written[from as usize][slot].clone();
            }
        }
        let mut lane = Lane { tokens: tokens[..sequence.length()].to_vec(), sequence };
        self.check(&lane);
        let rest = tokens[lane.sequence.length()..].to_vec();
        self.write(&mut lane, &rest);
        lane
    }

    /// Writes tokens, if there are pages for them; otherwise nothing changes.
    fn write(&mut self, lane: &mut Lane, tokens: &[u32]) {
        let (before, free) = (lane.sequence.pages().to_vec(), self.free());
        let needed = (lane.tokens.len() + tokens.len()).div_ceil(PAGE).saturating_sub(before.len());
        let has_room = self.index.reserve(&mut lane.sequence, tokens.len());
        assert_eq!(has_room, needed <= free, "what nobody has can be had");
        if !has_room {
            assert_eq!(lane.sequence.pages(), before, "all or nothing");
            return;
        }
        for token in tokens {
            let position = lane.tokens.len();
            lane.tokens.push(*token);
            let page = lane.sequence.pages()[position / PAGE];
            self.written[page as usize][position % PAGE] = lane.tokens.clone();
        }
        self.index.advance(&mut lane.sequence, tokens);
    }

    /// Pages that no sequence uses.
    fn free(&self) -> usize {
        let (known, empty) = self.index.idle();
        known + empty
    }

    /// Checks that each token of the lane is in the slot that its sequence lists.
    fn check(&self, lane: &Lane) {
        assert_eq!(lane.sequence.length(), lane.tokens.len());
        for position in 0..lane.tokens.len() {
            let page = lane.sequence.pages()[position / PAGE];
            let found = &self.written[page as usize][position % PAGE];
            assert_eq!(found, &lane.tokens[..=position], "at {position} in page {page}");
        }
    }

    /// Checks that each page is used, cached or empty, and that only full pages are shared.
    fn check_all(&self, lanes: &[Lane]) {
        let mut users = vec![0u32; self.pages];
        for lane in lanes {
            self.check(lane);
            lane.sequence.pages().iter().for_each(|&page| users[page as usize] += 1);
        }
        for (page, &expected) in (0..).zip(&users) {
            let (tokens, found) = self.index.contents(page as PageId);
            assert_eq!(found, expected, "users of page {page}");
            assert!(expected <= 1 || tokens.len() == PAGE, "page {page} is shared and not full");
        }
        let (known, empty) = self.index.idle();
        let used = users.iter().filter(|&&users| users > 0).count();
        assert_eq!(known + empty + used, self.pages, "a page is lost");
    }
}

#[derive(Debug, Clone)]
enum Act {
    Begin(Vec<u8>, usize),
    Write(usize, usize),
    End(usize),
    Discard(usize),
}

fn acts() -> impl Strategy<Value = Vec<Act>> {
    // Runs of two different tokens: many prefixes are equal, also up to the middle of a page.
    let tokens = prop::collection::vec(prop::sample::select(vec![0u8, 1]), 1..5);
    let act = prop_oneof![
        3 => (tokens, 1usize..120).prop_map(|(tokens, most)| Act::Begin(tokens, most)),
        3 => (any::<usize>(), 1usize..40).prop_map(|(lane, tokens)| Act::Write(lane, tokens)),
        2 => any::<usize>().prop_map(Act::End),
        1 => any::<usize>().prop_map(Act::Discard),
    ];
    prop::collection::vec(act, 1..120)
}

const LANES: usize = 3;
const CONTEXT: usize = 160;

proptest! {
    #[test]
    fn pages_never_leak_nor_alias(acts in acts(), pages in CONTEXT / PAGE..=LANES * CONTEXT / PAGE) {
        let mut cache = Imagined::new(pages);
        let mut lanes: Vec<Lane> = Vec::new();
        for act in acts {
            let count = lanes.len().max(1);
            let place = |lane: usize| lane % count;
            match act {
                Act::Begin(kinds, length) if lanes.len() < LANES => {
                    let runs = kinds.iter().flat_map(|&kind| [u32::from(kind); 30]);
                    let tokens: Vec<u32> = runs.take(length).collect();
                    lanes.push(cache.begin(&tokens, tokens.len() - 1));
                }
                Act::Write(lane, tokens) if !lanes.is_empty() => {
                    let lane = &mut lanes[place(lane)];
                    let room = tokens.min(CONTEXT - lane.tokens.len());
                    cache.write(lane, &vec![7; room]);
                }
                Act::End(lane) if !lanes.is_empty() => {
                    cache.index.end(lanes.remove(place(lane)).sequence);
                }
                Act::Discard(lane) if !lanes.is_empty() => {
                    cache.index.discard(lanes.remove(place(lane)).sequence);
                }
                _ => {}
            }
            cache.check_all(&lanes);
        }
        for lane in lanes.drain(..) {
            cache.index.end(lane.sequence);
        }
        cache.check_all(&[]);
    }
}

#[test]
fn the_longest_known_prefix_is_taken_up_also_in_the_middle_of_a_page() {
    let mut cache = Imagined::new(12);
    let tokens: Vec<u32> = (0..80).collect();
    let first = cache.begin(&tokens, 79);
    assert_eq!(first.tokens.len(), 80);
    let mut other = tokens[..70].to_vec();
    other.extend([900, 901]);
    let (sequence, copy) = cache.index.begin(&other);
    assert_eq!(sequence.length(), 70);
    assert_eq!(copy.map(|copy| copy.tokens), Some(6));
    assert_eq!(sequence.pages()[..2], first.sequence.pages()[..2], "full pages are shared");
    assert_ne!(sequence.pages()[2], first.sequence.pages()[2], "the last one is not");
    cache.index.end(sequence);
    cache.index.end(first.sequence);
    assert_eq!(cache.index.begin(&tokens).0.length(), 80, "ended sequences stay known");
}

#[test]
fn what_was_used_longest_ago_makes_room_first() {
    let mut cache = Imagined::new(4);
    let prompt = |start: u32| (start..start + 64).collect::<Vec<u32>>();
    for start in [0, 1000] {
        let lane = cache.begin(&prompt(start), 63);
        cache.index.end(lane.sequence);
    }
    let third = cache.begin(&prompt(2000), 63);
    cache.index.end(third.sequence);
    assert_eq!(cache.index.begin(&prompt(1000)).0.length(), 64);
    assert_eq!(cache.index.begin(&prompt(0)).0.length(), 0);
}

#[test]
fn a_discarded_sequence_leaves_nothing_behind() {
    let mut cache = Imagined::new(4);
    let tokens: Vec<u32> = (0..40).collect();
    let lane = cache.begin(&tokens, 39);
    cache.index.discard(lane.sequence);
    assert_eq!(cache.index.idle(), (0, 4));
    assert_eq!(cache.index.begin(&tokens).0.length(), 0);
}
