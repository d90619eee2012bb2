//! Threads take the place of processes, which the table does not distinguish.

use std::sync::atomic::{AtomicBool, AtomicUsize};
use std::thread;

use super::*;

/// Number of layers of a step.
const LAYERS: u32 = 100;

/// Computes steps with layers of a given time until `stop` is set.
fn compute(baton: Baton, layer: Duration, work: Work, stop: &AtomicBool) {
    while !stop.load(SeqCst) {
        baton.take(work);
        for _ in 0..LAYERS {
            let begun = Instant::now();
            while begun.elapsed() < layer {
                std::hint::spin_loop();
            }
            baton.between_layers();
        }
        if !baton.is_wanted() {
            baton.release();
        }
    }
}

/// The computing times of members 1 and 2, as soon as their sum is large enough; on a busy machine that takes longer.
fn computed_together(board: &Board, since: [Duration; 2], enough: Duration) -> [Duration; 2] {
    let deadline = Instant::now() + Duration::from_secs(60);
    loop {
        let times = [0, 1].map(|at| {
            let pid = u32::try_from(at).unwrap() + 1;
            // It has computed nothing before it joins.
            board.times(pid).unwrap_or_default().computed - since[at]
        });
        if times[0] + times[1] >= enough {
            return times;
        }
        assert!(Instant::now() < deadline, "{times:?} within a minute");
        thread::sleep(Duration::from_millis(20));
    }
}

#[test]
fn one_computes_at_a_time_and_shares_follow_shares() {
    let board = Board::create().unwrap();
    let (stop, inside, most) = (AtomicBool::new(false), AtomicUsize::new(0), AtomicUsize::new(0));
    let other = Board::open(&board.path()).unwrap();
    let times = thread::scope(|scope| {
        for (pid, share) in [(1, 100), (2, 300)] {
            let (board, stop, inside, most) = (&other, &stop, &inside, &most);
            scope.spawn(move || {
                let baton = board.join(pid, share).unwrap();
                while !stop.load(SeqCst) {
                    baton.take(Work::Answers);
                    most.fetch_max(inside.fetch_add(1, SeqCst) + 1, SeqCst);
                    thread::sleep(Duration::from_millis(2));
                    inside.fetch_sub(1, SeqCst);
                    baton.between_layers();
                }
                baton.release();
            });
        }
        let times = computed_together(&board, [Duration::ZERO; 2], Duration::from_secs(2));
        stop.store(true, SeqCst);
        times
    });
    assert_eq!(most.into_inner(), 1, "two computed at once");
    let [light, heavy] = times.map(|time| time.as_secs_f64());
    let share = heavy / (light + heavy);
    assert!((0.65..0.85).contains(&share), "{share} instead of 0.75");
}

#[test]
fn answers_of_one_are_not_held_up_by_long_prompts_of_another() {
    let board = Board::create().unwrap();
    let stop = AtomicBool::new(false);
    let layer = Duration::from_millis(5);
    let waited = thread::scope(|scope| {
        scope.spawn(|| compute(board.join(1, 100).unwrap(), layer, Work::Prompts, &stop));
        let baton = board.join(2, 100).unwrap();
        let mut waited = Vec::new();
        for _ in 0..20 {
            // It computes a token from time to time.
            thread::sleep(Duration::from_millis(5));
            let begun = Instant::now();
            baton.take(Work::Answers);
            waited.push(begun.elapsed());
            thread::sleep(Duration::from_millis(1));
            baton.release();
        }
        stop.store(true, SeqCst);
        waited
    });
    let mut waited = waited;
    waited.sort();
    let median = waited[waited.len() / 2];
    // A quantum and a layer, much less than a whole step.
    assert!(median * 4 < layer * LAYERS, "{median:?}");
}

#[test]
fn a_holder_that_is_gone_is_forgotten_and_the_baton_goes_on() {
    let board = Board::create().unwrap();
    let gone = board.join(7, 100).unwrap();
    gone.take(Work::Prompts);
    // It dies while it holds the baton.
    std::mem::forget(gone);
    let taken = AtomicBool::new(false);
    thread::scope(|scope| {
        scope.spawn(|| {
            let baton = board.join(8, 100).unwrap();
            baton.take(Work::Answers);
            taken.store(true, SeqCst);
        });
        thread::sleep(Duration::from_millis(100));
        assert!(!taken.load(SeqCst), "it is held");
        board.forget(7);
    });
    assert!(taken.load(SeqCst));
    assert_eq!(board.times(7), None, "its place is free");
    // A member that dies while it waits is neither chosen nor counted.
    let holder = board.join(1, 100).unwrap();
    holder.take(Work::Answers);
    board.table().members[1].pid.store(9, SeqCst);
    board.table().members[1].state.store(WAITS_WITH_PROMPTS, SeqCst);
    assert!(holder.is_wanted());
    board.forget(9);
    assert!(!holder.is_wanted());
    holder.release();
    assert_eq!(board.table().holder.load(SeqCst), 0);
}

#[test]
fn who_is_alone_keeps_it_and_all_places_may_be_taken() {
    let board = Board::create().unwrap();
    let baton = board.join(1, 100).unwrap();
    baton.take(Work::Answers);
    for _ in 0..1000 {
        baton.between_layers();
        baton.take(Work::Answers);
    }
    assert_eq!(
        board.times(1).unwrap().computed,
        Duration::ZERO,
        "nothing was counted: it was kept"
    );
    let others: Vec<Baton> = (2..).map_while(|pid| board.join(pid, 100)).collect();
    assert_eq!(others.len(), MEMBERS - 1);
    drop(others);
    assert!(board.join(2, 100).is_some());
    assert!(Board::open(Path::new("/dev/null")).is_err());
}

#[test]
fn who_computed_alone_does_not_pay_for_it_when_another_comes() {
    let layer = Duration::from_millis(1);
    // It is idle when another member arrives, or in the middle of a step.
    for is_idle in [true, false] {
        let board = Board::create().unwrap();
        let stop = AtomicBool::new(false);
        let share = thread::scope(|scope| {
            if is_idle {
                let alone = board.join(1, 100).unwrap();
                alone.take(Work::Answers);
                thread::sleep(Duration::from_secs(2));
                alone.release();
                scope.spawn(|| compute(board.join(2, 100).unwrap(), layer, Work::Answers, &stop));
                thread::sleep(Duration::from_millis(50));
                let stop = &stop;
                scope.spawn(move || compute(alone, layer, Work::Answers, stop));
            } else {
                scope.spawn(|| compute(board.join(1, 100).unwrap(), layer, Work::Answers, &stop));
                thread::sleep(Duration::from_secs(2));
                scope.spawn(|| compute(board.join(2, 100).unwrap(), layer, Work::Answers, &stop));
            }
            thread::sleep(Duration::from_millis(100));
            let before = [1, 2].map(|pid| board.times(pid).unwrap().computed);
            let times = computed_together(&board, before, Duration::from_secs(1));
            stop.store(true, SeqCst);
            let [first, second] = times.map(|time| time.as_secs_f64());
            first / (first + second)
        });
        assert!((0.25..0.75).contains(&share), "{share} instead of a half");
    }
}

#[test]
fn a_baton_that_was_given_to_one_that_died_goes_on() {
    let board = Board::create().unwrap();
    let gone = board.join(1, 100).unwrap();
    // The member was removed, but another one had chosen it before and enters it as the holder.
    board.forget(1);
    board.table().holder.store(number(gone.at), SeqCst);
    let baton = board.join(2, 100).unwrap();
    let (ready, taken) = std::sync::mpsc::channel();
    thread::spawn(move || {
        baton.take(Work::Answers);
        ready.send(()).unwrap();
    });
    let found = taken.recv_timeout(Duration::from_secs(30));
    assert_eq!(found, Ok(()), "nobody computes any more");
}
