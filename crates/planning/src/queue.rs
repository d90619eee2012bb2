//! The queue of calls that wait for a lane: which call is next, and how long a call will wait.
//!
//! A call of a higher class is served first. A call rises by one class for every [`RISES_AFTER`] that it waits, so none
//! waits for ever. Within a class, callers take turns: the caller that was served longest ago is next, and a new caller
//! comes after those that were waiting when it arrived (round robin, as in fair queueing: Nagle 1987). Between equal
//! callers, the one that holds fewer lanes is first, then the earlier call.

use std::collections::HashMap;
use std::time::Duration;

use thiserror::Error;

/// Waiting time after which a call counts as one class higher.
pub const RISES_AFTER: Duration = Duration::from_secs(30);
/// Weight of a new measurement in the moving average.
const WEIGHT: f64 = 0.2;

/// The priority of a call.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, PartialOrd, Ord)]
pub enum Class {
    /// Before all others.
    Urgent,
    /// The default.
    #[default]
    Usual,
    /// After all others.
    Background,
}

/// The queue is full; it has this many calls.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
#[error("{0} calls are waiting, the most that may")]
pub struct Full(pub usize);

#[derive(Debug)]
struct Waiting<T> {
    ticket: T,
    caller: String,
    class: Class,
    /// Arrival, on the caller's clock.
    since: Duration,
}

/// State of a caller that waits or holds lanes.
#[derive(Debug, Clone, Copy, Default)]
struct Caller {
    waiting: u32,
    holds: u32,
    /// Number of its last turn, or of the turn before it arrived.
    turn: u64,
}

/// A bounded queue. All times are durations since the same moment, of the caller's choice.
#[derive(Debug)]
pub struct Queue<T> {
    /// In order of arrival.
    waiting: Vec<Waiting<T>>,
    callers: HashMap<String, Caller>,
    turns: u64,
}

impl<T> Default for Queue<T> {
    fn default() -> Self {
        Self { waiting: Vec::new(), callers: HashMap::new(), turns: 0 }
    }
}

impl<T> Queue<T> {
    /// Number of waiting calls.
    #[must_use]
    pub fn len(&self) -> usize {
        self.waiting.len()
    }

    /// Whether no call waits.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.waiting.is_empty()
    }

    fn caller(&mut self, name: &str) -> &mut Caller {
        let turn = self.turns;
        self.callers.entry(name.to_owned()).or_insert(Caller { turn, ..Caller::default() })
    }

    /// Adds a call, if fewer than `most` wait.
    ///
    /// # Errors
    /// The queue is full.
    pub fn push(
        &mut self,
        ticket: T,
        caller: &str,
        class: Class,
        most: usize,
        now: Duration,
    ) -> Result<(), Full> {
        if self.waiting.len() >= most {
            return Err(Full(self.waiting.len()));
        }
        self.caller(caller).waiting += 1;
        self.waiting.push(Waiting { ticket, caller: caller.to_owned(), class, since: now });
        Ok(())
    }

    /// The next call.
    #[must_use]
    pub fn peek(&self, now: Duration) -> Option<&T> {
        let at = next(self.waiting.iter().enumerate(), &self.callers, now)?;
        Some(&self.waiting[at].ticket)
    }

    /// Removes the next call. Its caller holds a lane until [`Self::returned`].
    pub fn pop(&mut self, now: Duration) -> Option<T> {
        let at = next(self.waiting.iter().enumerate(), &self.callers, now)?;
        let next = self.waiting.remove(at);
        self.turns += 1;
        let turns = self.turns;
        let caller = self.caller(&next.caller);
        (caller.waiting, caller.holds, caller.turn) = (caller.waiting - 1, caller.holds + 1, turns);
        Some(next.ticket)
    }

    /// Notes that a caller returned a lane.
    pub fn returned(&mut self, caller: &str) {
        if let Some(found) = self.callers.get_mut(caller) {
            found.holds = found.holds.saturating_sub(1);
        }
        self.forget_the_gone();
    }

    /// Removes calls that do not wait any more.
    pub fn retain(&mut self, mut still_waits: impl FnMut(&T) -> bool) {
        let callers = &mut self.callers;
        self.waiting.retain(|waiting| {
            let stays = still_waits(&waiting.ticket);
            if !stays && let Some(caller) = callers.get_mut(&waiting.caller) {
                caller.waiting = caller.waiting.saturating_sub(1);
            }
            stays
        });
        self.forget_the_gone();
    }

    /// Removes all calls.
    pub fn drain(&mut self) -> Vec<T> {
        let all = std::mem::take(&mut self.waiting);
        self.callers.values_mut().for_each(|caller| caller.waiting = 0);
        self.forget_the_gone();
        all.into_iter().map(|waiting| waiting.ticket).collect()
    }

    fn forget_the_gone(&mut self) {
        self.callers.retain(|_, caller| caller.waiting > 0 || caller.holds > 0);
    }

    /// All calls, in the order in which they will be served if no more arrive.
    pub fn in_order(&self, now: Duration) -> Vec<&T> {
        let mut left: Vec<(usize, &Waiting<T>)> = self.waiting.iter().enumerate().collect();
        let (mut callers, mut turns) = (self.callers.clone(), self.turns);
        let mut order = Vec::with_capacity(left.len());
        while let Some(number) = next(left.iter().copied(), &callers, now) {
            left.retain(|(at, _)| *at != number);
            let waiting = &self.waiting[number];
            turns += 1;
            if let Some(caller) = callers.get_mut(&waiting.caller) {
                (caller.holds, caller.turn) = (caller.holds + 1, turns);
            }
            order.push(&waiting.ticket);
        }
        order
    }
}

/// Index of the next call.
fn next<'a, T: 'a>(
    waiting: impl Iterator<Item = (usize, &'a Waiting<T>)>,
    callers: &HashMap<String, Caller>,
    now: Duration,
) -> Option<usize> {
    let rank = |waiting: &Waiting<T>| {
        let waited = now.saturating_sub(waiting.since).as_secs() / RISES_AFTER.as_secs();
        (waiting.class as u64).saturating_sub(waited)
    };
    let key = |(number, waiting): &(usize, &Waiting<T>)| {
        let caller = callers.get(&waiting.caller).copied().unwrap_or_default();
        (rank(waiting), caller.turn, caller.holds, *number)
    };
    waiting.min_by_key(key).map(|(number, _)| number)
}

/// Average time for which lanes are held.
#[derive(Debug, Clone, Copy, Default)]
pub struct Holding {
    seconds: Option<f64>,
}

impl Holding {
    /// Notes for how long a lane was held.
    pub fn note(&mut self, held: Duration) {
        let new = held.as_secs_f64();
        let known = self.seconds.unwrap_or(new);
        self.seconds = Some(known + WEIGHT * (new - known));
    }

    /// Expected wait of the call at `position` (1 is next) for one of `lanes` lanes; none before any lane was returned.
    #[must_use]
    pub fn expected(&self, position: usize, lanes: u32) -> Option<Duration> {
        #[expect(clippy::cast_precision_loss, reason = "an estimate")]
        let seconds = self.seconds? * position as f64 / f64::from(lanes.max(1));
        Duration::try_from_secs_f64(seconds).ok()
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    const NOW: Duration = Duration::ZERO;

    fn queue(calls: &[(&'static str, &'static str, Class)]) -> Queue<&'static str> {
        let mut queue = Queue::default();
        for (ticket, caller, class) in calls {
            queue.push(*ticket, caller, *class, 100, NOW).unwrap();
        }
        queue
    }

    fn all(queue: &mut Queue<&'static str>, now: Duration) -> Vec<&'static str> {
        std::iter::from_fn(|| queue.pop(now)).collect()
    }

    #[test]
    fn callers_take_turns_and_each_ones_calls_keep_their_order() {
        use Class::Usual;
        let mut queue = queue(&[
            ("a1", "agent", Usual),
            ("a2", "agent", Usual),
            ("a3", "agent", Usual),
            ("p1", "person", Usual),
            ("n1", "notebook", Usual),
            ("p2", "person", Usual),
        ]);
        let order: Vec<_> = queue.in_order(NOW).into_iter().copied().collect();
        assert_eq!(order, ["a1", "p1", "n1", "a2", "p2", "a3"]);
        assert_eq!(all(&mut queue, NOW), order, "what is shown is what happens");
    }

    #[test]
    fn who_holds_all_lanes_stands_behind_who_comes_new() {
        let mut queue = queue(&[("a1", "agent", Class::Usual), ("a2", "agent", Class::Usual)]);
        assert_eq!(queue.pop(NOW), Some("a1"));
        queue.push("p1", "person", Class::Usual, 100, NOW).unwrap();
        assert_eq!(queue.pop(NOW), Some("p1"));
        queue.push("x1", "newer", Class::Usual, 100, NOW).unwrap();
        assert_eq!(queue.pop(NOW), Some("a2"), "who comes new does not overtake again and again");
    }

    #[test]
    fn classes_go_before_each_other_until_somebody_waited_long() {
        use Class::{Background, Urgent, Usual};
        let calls = [("b", "x", Background), ("u", "x", Usual), ("!", "y", Urgent)];
        assert_eq!(all(&mut queue(&calls), NOW), ["!", "u", "b"]);
        let mut queue = queue(&calls[..1]);
        let later = RISES_AFTER * 2;
        queue.push("late", "x", Urgent, 100, later).unwrap();
        assert_eq!(all(&mut queue, later), ["b", "late"], "a minute in the background is enough");
    }

    #[test]
    fn a_full_queue_takes_nobody_until_somebody_leaves() {
        let mut queue = queue(&[("a", "x", Class::Usual), ("b", "y", Class::Usual)]);
        assert_eq!(queue.push("c", "z", Class::Urgent, 2, NOW), Err(Full(2)));
        queue.retain(|&ticket| ticket != "a");
        queue.push("c", "z", Class::Urgent, 2, NOW).unwrap();
        assert_eq!((queue.len(), all(&mut queue, NOW)), (2, vec!["c", "b"]));
        assert!(queue.is_empty());
    }

    #[test]
    fn nothing_is_remembered_of_who_is_gone() {
        let mut queue = queue(&[("a", "x", Class::Usual), ("b", "y", Class::Usual)]);
        queue.pop(NOW);
        assert_eq!(queue.drain(), ["b"]);
        queue.returned("x");
        assert!(queue.callers.is_empty());
    }

    #[test]
    fn a_wait_is_expected_by_how_long_lanes_were_held() {
        let mut holding = Holding::default();
        assert_eq!(holding.expected(1, 2), None);
        holding.note(Duration::from_secs(4));
        assert_eq!(holding.expected(3, 2), Some(Duration::from_secs(6)));
        (0..50).for_each(|_| holding.note(Duration::from_secs(8)));
        let seconds = holding.expected(1, 1).unwrap().as_secs_f64();
        assert!((7.9..=8.0).contains(&seconds), "{seconds}");
    }

    proptest! {
        /// On a simulated clock: lanes are taken and returned in any order, and callers arrive and leave.
        #[test]
        fn between_two_turns_of_one_who_waits_nobody_else_has_more_than_one(
            acts in prop::collection::vec((0usize..5, 0u8..3), 1..300),
        ) {
            let names = ["a", "b", "c", "d", "e"];
            let mut queue = Queue::default();
            let mut held: Vec<usize> = Vec::new();
            // Number of turns of others since a caller has waited without a turn.
            let mut since = [[0u32; 5]; 5];
            let mut waiting = [0u32; 5];
            for (caller, act) in acts {
                match act {
                    0 => {
                        queue.push(caller, names[caller], Class::Usual, 100, NOW).unwrap();
                        if waiting[caller] == 0 {
                            since[caller] = [0; 5];
                        }
                        waiting[caller] += 1;
                    }
                    1 => if let Some(served) = queue.pop(NOW) {
                        held.push(served);
                        waiting[served] -= 1;
                        since[served] = [0; 5];
                        for other in (0..5).filter(|&other| other != served && waiting[other] > 0) {
                            since[other][served] += 1;
                            prop_assert!(since[other][served] <= 1, "{other} waits, {served} does not");
                        }
                    },
                    _ => if !held.is_empty() {
                        queue.returned(names[held.remove(caller % held.len())]);
                    },
                }
            }
        }

        #[test]
        fn nothing_waits_for_ever_and_nothing_is_lost(
            classes in prop::collection::vec(0u8..3, 1..40),
        ) {
            let class = |number: u8| [Class::Urgent, Class::Usual, Class::Background][usize::from(number)];
            let mut queue = Queue::default();
            queue.push(usize::MAX, "patient", Class::Background, 100, NOW).unwrap();
            // One lane, which is returned every five seconds; an urgent call always arrives before that.
            let mut served = Vec::new();
            for (at, number) in classes.iter().cycle().take(40).enumerate() {
                let now = Duration::from_secs(5 * at as u64);
                queue.push(at, "busy", class(*number).min(Class::Usual), 100, now).unwrap();
                served.extend(queue.pop(now));
                queue.returned("busy");
            }
            let turn = served.iter().position(|&ticket| ticket == usize::MAX);
            prop_assert!(turn.is_some_and(|turn| turn <= 14), "{turn:?}");
            served.extend(queue.drain());
            served.sort_unstable();
            served.dedup();
            prop_assert_eq!(served.len(), 41);
        }
    }
}
