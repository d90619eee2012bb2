//! The baton: the permission to compute, passed between busy engine processes through shared memory.
//!
//! Whoever holds it computes with all its threads. When nobody waits it is simply kept, and that costs an
//! engine nothing but looking at the clock for each layer. When others wait, the holder passes it on at the
//! end of a layer once it held it for a quantum, to the one that [`deft_planning::baton`] chooses. There is
//! no message and no arbiter: the table below, one futex word for each place, and the same rule everywhere.
//!
//! A process that dies while it holds the baton cannot pass it on; whoever started it says so
//! ([`Board::forget`]), and the baton goes on.

use std::cell::Cell;
use std::fs::File;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicU32, AtomicU64, Ordering::SeqCst};
use std::time::{Duration, Instant};

use deft_planning::baton::{Contender, Work, growth, next, rejoined};
use rustix::thread::futex;

use crate::mapped::{SharedMemory, shared_memory};

/// How long the baton is kept while others wait, at least; then it goes on at the end of a layer.
const QUANTUM: Duration = Duration::from_millis(20);
/// The same in nanoseconds.
const QUANTUM_NS: u64 = 20_000_000;
/// Engine processes at most; more than that compute without asking.
const MEMBERS: usize = 256;
/// A waiter looks again after so long, should it have been forgotten.
const LOOK_AGAIN: Duration = Duration::from_millis(200);

/// States of a member.
const AWAY: u32 = 0;
const WAITS_WITH_ANSWERS: u32 = 1;
const WAITS_WITH_PROMPTS: u32 = 2;
const HOLDS: u32 = 3;

/// What all processes see. Everything is zero at first.
#[repr(C)]
pub(crate) struct Table {
    /// The number of the member that holds the baton, plus one; nobody where 0.
    holder: AtomicU32,
    /// The run of whoever computed last.
    last_run: AtomicU64,
    members: [Member; MEMBERS],
}

/// An engine process.
#[repr(C, align(64))]
struct Member {
    /// Its process; free where 0.
    pid: AtomicU32,
    state: AtomicU32,
    /// Counts up when it is called; what it sleeps on.
    bell: AtomicU32,
    share: AtomicU32,
    /// As [`Contender::run`].
    run: AtomicU64,
    /// Nanoseconds that it computed, and that it waited.
    computed: AtomicU64,
    waited: AtomicU64,
}

impl Table {
    fn contender(&self, at: usize) -> Option<Contender> {
        let place = &self.members[at];
        let work = match place.state.load(SeqCst) {
            WAITS_WITH_ANSWERS => Work::Answers,
            WAITS_WITH_PROMPTS => Work::Prompts,
            _ => return None,
        };
        Some(Contender { run: place.run.load(SeqCst), work })
    }

    /// Who is to compute next.
    fn next(&self) -> Option<usize> {
        let waiting = (0..MEMBERS).filter_map(|at| Some((at, self.contender(at)?)));
        next(waiting, QUANTUM_NS)
    }

    /// Gives the baton of a place to the next one, or to nobody. Nothing happens where that place does not
    /// have it any more.
    fn hand_on(&self, from: usize) {
        let mut holder = number(from);
        loop {
            let next = self.next();
            let then = next.map_or(0, number);
            if self.holder.compare_exchange(holder, then, SeqCst, SeqCst).is_err() {
                return;
            }
            holder = then;
            match next {
                // Its process may have ended between being chosen and having it: then it goes on.
                Some(at) if self.is_away(at) => {}
                Some(at) => return self.call(at),
                // Somebody may have begun to wait in between, and seen a holder still.
                None if self.next().is_none() => return,
                None => {}
            }
        }
    }

    /// Whether a place neither waits nor computes.
    fn is_away(&self, at: usize) -> bool {
        self.members[at].state.load(SeqCst) == AWAY
    }

    /// Whether somebody waits.
    fn is_wanted(&self) -> bool {
        (0..MEMBERS).any(|at| self.contender(at).is_some())
    }

    fn call(&self, at: usize) {
        let bell = &self.members[at].bell;
        bell.fetch_add(1, SeqCst);
        // One that is awake needs no waking.
        let _ = futex::wake(bell, futex::Flags::empty(), 1);
    }

    /// The least run of those who are busy, but for one.
    fn least_run_of_others(&self, own: usize) -> Option<u64> {
        let busy = (0..MEMBERS).filter(|&at| at != own);
        let busy = busy.filter(|&at| self.members[at].state.load(SeqCst) != AWAY);
        busy.map(|at| self.members[at].run.load(SeqCst)).min()
    }
}

/// How the holder is written.
fn number(at: usize) -> u32 {
    u32::try_from(at + 1).expect("there are few places")
}

/// What an engine process computed and waited, since it took its place.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct BatonTimes {
    /// Time it held the baton.
    pub computed: Duration,
    /// Time it waited for it.
    pub waited: Duration,
}

/// The shared table; cheap to clone.
#[derive(Clone)]
pub struct Board {
    memory: Arc<SharedMemory>,
}

impl Board {
    /// A new one, in memory that has no name in any directory.
    ///
    /// # Errors
    /// The system gives no memory.
    pub fn create() -> io::Result<Self> {
        Ok(Self { memory: Arc::new(shared_memory(size_of::<Table>())?) })
    }

    /// Where other processes of the same user find it, as long as this process has it.
    #[must_use]
    pub fn path(&self) -> PathBuf {
        self.memory.path()
    }

    /// One that another process made.
    ///
    /// # Errors
    /// It is not there any more, or is no table.
    pub fn open(path: &Path) -> io::Result<Self> {
        let file = File::options().read(true).write(true).open(path)?;
        Ok(Self { memory: Arc::new(SharedMemory::of(file, size_of::<Table>())?) })
    }

    fn table(&self) -> &Table {
        self.memory.table()
    }

    /// Takes a place for a process; none where all are taken. `share` is 100 where nothing is said.
    #[must_use]
    pub fn join(&self, pid: u32, share: u32) -> Option<Baton> {
        let free =
            |place: &Member| place.pid.compare_exchange(0, pid.max(1), SeqCst, SeqCst).is_ok();
        let at = self.table().members.iter().position(free)?;
        let place = &self.table().members[at];
        place.state.store(AWAY, SeqCst);
        place.share.store(share, SeqCst);
        place.run.store(0, SeqCst);
        place.computed.store(0, SeqCst);
        place.waited.store(0, SeqCst);
        Some(Baton {
            board: self.clone(),
            at,
            since: Cell::new(None),
            work: Cell::new(Work::Prompts),
        })
    }

    /// A process has ended, however that came: its place is free, and where it held the baton somebody else
    /// has it now.
    pub fn forget(&self, pid: u32) {
        let table = self.table();
        let own = table.members.iter().position(|place| place.pid.load(SeqCst) == pid);
        let Some(at) = own.filter(|_| pid != 0) else {
            return;
        };
        let place = &table.members[at];
        // In this order: whoever chooses it now sees that it is away, or is seen to have chosen it.
        place.state.store(AWAY, SeqCst);
        table.hand_on(at);
        place.pid.store(0, SeqCst);
    }

    /// Changes the share of a process.
    pub fn set_share(&self, pid: u32, share: u32) {
        let place = self.table().members.iter().find(|place| place.pid.load(SeqCst) == pid);
        if let Some(place) = place {
            place.share.store(share, SeqCst);
        }
    }

    /// Whether a process waits for its turn, and was not given it.
    #[must_use]
    pub fn is_waiting(&self, pid: u32) -> bool {
        let table = self.table();
        let at = table.members.iter().position(|place| place.pid.load(SeqCst) == pid);
        at.is_some_and(|at| {
            table.contender(at).is_some() && table.holder.load(SeqCst) != number(at)
        })
    }

    /// What a process computed and waited.
    #[must_use]
    pub fn times(&self, pid: u32) -> Option<BatonTimes> {
        let place = self.table().members.iter().find(|place| place.pid.load(SeqCst) == pid)?;
        Some(BatonTimes {
            computed: Duration::from_nanos(place.computed.load(SeqCst)),
            waited: Duration::from_nanos(place.waited.load(SeqCst)),
        })
    }
}

/// A process's place at a [`Board`].
pub struct Baton {
    board: Board,
    at: usize,
    /// Since when it is held.
    since: Cell<Option<Instant>>,
    work: Cell<Work>,
}

impl Baton {
    fn table(&self) -> &Table {
        self.board.table()
    }

    fn place(&self) -> &Member {
        &self.table().members[self.at]
    }

    /// Waits for the baton, unless it is held; what is computed with it is told to those who pass it on.
    pub fn take(&self, work: Work) {
        self.work.set(work);
        if self.since.get().is_some() {
            return;
        }
        let least = self.table().least_run_of_others(self.at);
        let last = self.table().last_run.load(SeqCst);
        let place = self.place();
        place.run.store(rejoined(place.run.load(SeqCst), least, last, QUANTUM_NS), SeqCst);
        self.wait();
    }

    fn wait(&self) {
        let (table, place, own) = (self.table(), self.place(), number(self.at));
        let begun = Instant::now();
        let state = match self.work.get() {
            Work::Answers => WAITS_WITH_ANSWERS,
            Work::Prompts => WAITS_WITH_PROMPTS,
        };
        place.state.store(state, SeqCst);
        // Who had it when this one looked last, without computing or waiting.
        let mut idle = None;
        loop {
            let bell = place.bell.load(SeqCst);
            // It lies there, or was given to us.
            let taken = table.holder.compare_exchange(0, own, SeqCst, SeqCst);
            if taken.is_ok() || taken == Err(own) {
                break;
            }
            // A process that was killed in the middle of taking it or of passing it on leaves it with a place
            // that does neither. Seen twice, somebody else may have it.
            let seen = taken.err().filter(|&holder| is_left(table, holder));
            if seen.is_some() && seen == idle {
                let _ = table.holder.compare_exchange(seen.unwrap_or(0), 0, SeqCst, SeqCst);
                continue;
            }
            idle = seen;
            let timeout = LOOK_AGAIN.try_into().ok();
            // Woken, called before it slept, or after a while: it looks again in any case.
            let _ = futex::wait(&place.bell, futex::Flags::empty(), bell, timeout.as_ref());
        }
        place.state.store(HOLDS, SeqCst);
        place.waited.fetch_add(nanoseconds(begun.elapsed()), SeqCst);
        self.since.set(Some(Instant::now()));
    }

    /// Gives the baton up, where it is held.
    pub fn release(&self) {
        if self.since.get().is_some() {
            self.count();
            self.since.set(None);
            self.place().state.store(AWAY, SeqCst);
            self.table().hand_on(self.at);
        }
    }

    /// Does something that needs no processor, while others may compute.
    pub(crate) fn without(&self, wait: impl FnOnce()) {
        let was_held = self.since.get().is_some();
        self.release();
        wait();
        if was_held {
            self.take(self.work.get());
        }
    }

    /// Between two layers: passes the baton on where others wait and it was held for a quantum, and waits
    /// for its return.
    pub fn between_layers(&self) {
        if self.since.get().is_none_or(|since| since.elapsed() < QUANTUM) {
            return;
        }
        // Also where nobody waits: whoever comes next is placed by what was counted.
        self.count();
        let table = self.table();
        if !table.is_wanted() {
            return;
        }
        let own = Contender { run: self.place().run.load(SeqCst), work: self.work.get() };
        let others = (0..MEMBERS).filter_map(|at| Some((at, table.contender(at)?)));
        if next(others.chain([(self.at, own)]), QUANTUM_NS) == Some(self.at) {
            return;
        }
        self.since.set(None);
        self.place().state.store(AWAY, SeqCst);
        table.hand_on(self.at);
        self.wait();
    }

    /// Whether somebody else waits.
    #[must_use]
    pub fn is_wanted(&self) -> bool {
        self.table().is_wanted()
    }

    /// Time it waited for the baton so far.
    pub(crate) fn waited(&self) -> Duration {
        Duration::from_nanos(self.place().waited.load(SeqCst))
    }

    /// Counts the time since the baton was taken, or counted last, as computed.
    fn count(&self) {
        if let Some(since) = self.since.replace(Some(Instant::now())) {
            let (place, held) = (self.place(), nanoseconds(since.elapsed()));
            place.computed.fetch_add(held, SeqCst);
            let grown = growth(held, place.share.load(SeqCst));
            let run = place.run.fetch_add(grown, SeqCst).wrapping_add(grown);
            self.table().last_run.fetch_max(run, SeqCst);
        }
    }
}

impl Drop for Baton {
    fn drop(&mut self) {
        self.release();
        self.place().pid.store(0, SeqCst);
    }
}

/// Whether the baton is with a place that nobody has, or that neither waits nor computes.
fn is_left(table: &Table, holder: u32) -> bool {
    usize::try_from(holder)
        .ok()
        .and_then(|holder| holder.checked_sub(1))
        .is_none_or(|at| at >= MEMBERS || table.is_away(at))
}

fn nanoseconds(duration: Duration) -> u64 {
    u64::try_from(duration.as_nanos()).unwrap_or(u64::MAX)
}

#[cfg(test)]
mod tests;
