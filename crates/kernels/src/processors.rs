//! Which processors this process may use.

use std::sync::LazyLock;

use rustix::thread::{CpuSet, sched_getaffinity, sched_setaffinity};

/// As it was before a thread was told to stay on one of them, which threads that it starts would inherit.
static MINE: LazyLock<Vec<usize>> = LazyLock::new(|| {
    let Ok(set) = sched_getaffinity(None) else {
        return Vec::new();
    };
    (0..CpuSet::MAX_CPU).filter(|&processor| set.is_set(processor)).collect()
});

/// The processors this process may use, by their numbers; empty where the system does not tell.
pub(crate) fn mine() -> &'static [usize] {
    &MINE
}

/// How many threads compute at once, where nobody says: one for each processor that this process may use, and
/// no more than its group has time for (the standard library reads the group's quota).
pub(crate) fn count() -> usize {
    *COUNT
}

/// As it was before a thread was told to stay on one processor.
static COUNT: LazyLock<usize> = LazyLock::new(|| {
    // Threads that stay somewhere see only that: their number is counted where none does yet.
    let mine = mine().len();
    let quota = std::thread::available_parallelism().map_or(1, usize::from);
    if mine == 0 { quota } else { quota.min(mine) }
});

/// Keeps the calling thread on a processor of its own, if the team has no more threads than there are
/// processors. Where the system does not allow it the thread runs wherever it is put.
pub(crate) fn stay_on(thread: usize, threads: usize) {
    let processors = mine();
    if threads != processors.len() {
        return;
    }
    LazyLock::force(&COUNT);
    let mut set = CpuSet::new();
    set.set(processors[thread]);
    let _ = sched_setaffinity(None, &set);
}
