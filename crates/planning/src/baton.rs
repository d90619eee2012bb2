//! The choice of the engine process that computes next: weighted fair shares of the processor.
//!
//! Each contender has a *run*: the time that it computed, divided by its share. The contender with the least run computes
//! next, so over time each computes in proportion to its share (start-time fair queueing: Goyal, Vin and Cheng 1996).
//! Runs that differ by less than a quantum count as equal; between equals, a contender that generates an answer comes
//! before one that processes a prompt. A contender that was idle has no claim on the past: it returns at most one
//! quantum behind the least run of the busy ones, or behind the last one to compute if none is busy. Computing alone therefore
//! has no later disadvantage.

/// Default share, with which a run grows by the computing time itself.
const USUAL: u64 = 100;

/// What a contender will compute next.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Work {
    /// Tokens of answers, possibly with prompts: a reader waits for them.
    Answers,
    /// Prompts only.
    Prompts,
}

/// An engine process that waits to compute.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Contender {
    /// Its run.
    pub run: u64,
    /// What it will compute next.
    pub work: Work,
}

/// Growth of a run for a computing time in nanoseconds. The default share is 100; with 200 a contender computes twice as
/// much.
#[must_use]
pub fn growth(nanoseconds: u64, share: u32) -> u64 {
    nanoseconds.saturating_mul(USUAL) / u64::from(share.max(1))
}

/// The run of a contender that returns: its own, or the least run of the busy ones minus a quantum, whichever is more.
/// If none is busy, `last`, the run of the last one to compute, counts instead.
#[must_use]
pub fn rejoined(own: u64, least_of_others: Option<u64>, last: u64, quantum: u64) -> u64 {
    own.max(least_of_others.unwrap_or(last).saturating_sub(quantum))
}

/// Index of the contender that computes next; none if none waits.
pub fn next(
    contenders: impl Iterator<Item = (usize, Contender)> + Clone,
    quantum: u64,
) -> Option<usize> {
    let least = contenders.clone().map(|(_, found)| found.run).min()?;
    let is_equal = |found: &(usize, Contender)| found.1.run - least < quantum;
    contenders
        .filter(is_equal)
        .min_by_key(|(_, found)| (found.work, found.run))
        .map(|(number, _)| number)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    const QUANTUM: u64 = 20_000_000;
    const MILLISECOND: u64 = 1_000_000;

    fn contender(run: u64, work: Work) -> Contender {
        Contender { run, work }
    }

    #[test]
    fn the_least_run_goes_first_and_answers_before_prompts_at_equal_runs() {
        let chosen = |all: &[Contender]| next(all.iter().copied().enumerate(), QUANTUM);
        assert_eq!(chosen(&[]), None);
        let prompts = contender(10 * MILLISECOND, Work::Prompts);
        assert_eq!(chosen(&[prompts, contender(25 * MILLISECOND, Work::Answers)]), Some(1));
        let behind = contender(31 * MILLISECOND, Work::Answers);
        assert_eq!(chosen(&[prompts, behind]), Some(0), "answers do not starve prompts");
        let both = [contender(7, Work::Answers), contender(5, Work::Answers)];
        assert_eq!(chosen(&both), Some(1));
    }

    #[test]
    fn who_was_away_has_no_claim_on_the_time_in_between() {
        let rejoined = |own, least, last| rejoined(own, least, last, QUANTUM);
        let busy = Some(900 * MILLISECOND);
        assert_eq!(rejoined(5, busy, 0), 880 * MILLISECOND);
        assert_eq!(rejoined(950 * MILLISECOND, busy, 0), 950 * MILLISECOND);
        assert_eq!(rejoined(5, None, 0), 5);
    }

    #[test]
    fn nobody_pays_for_what_it_computed_alone() {
        // One contender computed for a minute and is idle; a new one begins at the same moment.
        let alone = 60_000 * MILLISECOND;
        let new = rejoined(0, None, alone, QUANTUM);
        assert!(alone - new <= QUANTUM, "it is at most a quantum behind");
    }

    /// A contender of the simulation: its share, the time of its layers, and what it computes.
    #[derive(Debug, Clone)]
    struct Busy {
        share: u32,
        layer: u64,
        work: Work,
    }

    fn busy() -> impl Strategy<Value = Busy> {
        let work = prop_oneof![Just(Work::Answers), Just(Work::Prompts)];
        (50..400_u32, 1..30 * MILLISECOND, work).prop_map(|(share, layer, work)| Busy {
            share,
            layer,
            work,
        })
    }

    /// Lets all compute for a time, and passes the baton on like engines: at the end of a layer, after a quantum. Returns the
    /// computing time of each, and the longest waiting time.
    fn simulate(all: &[Busy], duration: u64) -> (Vec<u64>, u64) {
        let (mut runs, mut computed) = (vec![0; all.len()], vec![0; all.len()]);
        let mut waiting_since = vec![0; all.len()];
        let (mut clock, mut longest) = (0, 0);
        while clock < duration {
            let contenders =
                all.iter().zip(&runs).map(|(busy, &run)| contender(run, busy.work)).enumerate();
            let holder = next(contenders, QUANTUM).unwrap();
            longest = longest.max(clock - waiting_since[holder]);
            let layers = QUANTUM.div_ceil(all[holder].layer);
            let held = layers * all[holder].layer;
            clock += held;
            computed[holder] += held;
            runs[holder] += growth(held, all[holder].share);
            waiting_since[holder] = clock;
        }
        (computed, longest)
    }

    proptest! {
        #[test]
        fn everybody_computes_in_proportion_to_its_share(all in prop::collection::vec(busy(), 2..7)) {
            let duration = 120_000 * MILLISECOND;
            let (computed, longest) = simulate(&all, duration);
            let shares: f64 = all.iter().map(|busy| f64::from(busy.share)).sum();
            let whole: u64 = computed.iter().sum();
            for (busy, computed) in all.iter().zip(&computed) {
                let due = f64::from(busy.share) / shares;
                let share = *computed as f64 / whole as f64;
                prop_assert!((share - due).abs() <= 0.05 * due, "{share} instead of {due}");
            }
            // The longest wait is the time in which the others use their shares of a turn.
            let least = all.iter().map(|busy| busy.share).min().unwrap();
            let turns = shares / f64::from(least) + all.len() as f64;
            prop_assert!(longest as f64 <= 2.0 * turns * (QUANTUM + 30 * MILLISECOND) as f64);
        }
    }
}
