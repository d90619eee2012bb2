//! The baton: the permission to compute, passed between busy engine processes through shared memory.
//!
//! The holder computes with all its threads. If no other process waits, it keeps the baton, at the cost of reading the
//! clock once per layer. If others wait, the holder passes the baton on at the end of a layer, after at least a quantum,
//! to the process that [`deft_planning::baton`] chooses. There are no messages and no arbiter: only the table below, a
//! futex word for each process, and the same rule in all of them.
//!
//! A process that dies cannot pass the baton on. The service, which started it, does that ([`Board::forget`]).

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

/// Least time for which the baton is held while others wait.
const QUANTUM: Duration = Duration::from_millis(20);
/// The same in nanoseconds.
const QUANTUM_NS: u64 = 20_000_000;
/// Most engine processes; any further ones compute without the baton.
const MEMBERS: usize = 256;
/// A waiting process checks the table at least this often, in case a wake-up was lost.
const LOOK_AGAIN: Duration = Duration::from_millis(200);

/// States of a member.
const AWAY: u32 = 0;
const WAITS_WITH_ANSWERS: u32 = 1;
const WAITS_WITH_PROMPTS: u32 = 2;
const HOLDS: u32 = 3;

/// The table that all processes share. It begins as zeros.
#[repr(C)]
pub(crate) struct Table {
    /// Index of the member that holds the baton, plus one; 0 if none does.
    holder: AtomicU32,
    /// Run of the last member that computed.
    last_run: AtomicU64,
    members: [Member; MEMBERS],
}

/// An engine process.
#[repr(C, align(64))]
struct Member {
    /// Its process id; 0 if the entry is free.
    pid: AtomicU32,
    state: AtomicU32,
    /// Futex word that it sleeps on; grows with each wake-up.
    bell: AtomicU32,
    share: AtomicU32,
    /// As [`Contender::run`].
    run: AtomicU64,
    /// Nanoseconds of computing, and of waiting.
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

    /// The member that computes next.
    fn next(&self) -> Option<usize> {
        let waiting = (0..MEMBERS).filter_map(|at| Some((at, self.contender(at)?)));
        next(waiting, QUANTUM_NS)
    }

    /// Passes the baton from a member to the next, or to none. Does nothing if that member does not hold it any more.
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
                // Its process may have ended after it was chosen; then the baton is passed on again.
                Some(at) if self.is_away(at) => {}
                Some(at) => return self.call(at),
                // Another member may have begun to wait meanwhile, while it still saw a holder.
                None if self.next().is_none() => return,
                None => {}
            }
        }
    }

    /// Whether a member neither waits nor computes.
    fn is_away(&self, at: usize) -> bool {
        self.members[at].state.load(SeqCst) == AWAY
    }

    /// Whether any member waits.
    fn is_wanted(&self) -> bool {
        (0..MEMBERS).any(|at| self.contender(at).is_some())
    }

    fn call(&self, at: usize) {
        let bell = &self.members[at].bell;
        bell.fetch_add(1, SeqCst);
        // A member that does not sleep needs no wake-up.
        let _ = futex::wake(bell, futex::Flags::empty(), 1);
    }

    /// The least run of the busy members except one.
    fn least_run_of_others(&self, own: usize) -> Option<u64> {
        let busy = (0..MEMBERS).filter(|&at| at != own);
        let busy = busy.filter(|&at| self.members[at].state.load(SeqCst) != AWAY);
        busy.map(|at| self.members[at].run.load(SeqCst)).min()
    }
}

/// The holder as the table stores it.
fn number(at: usize) -> u32 {
    u32::try_from(at + 1).expect("there are few places")
}

/// Computing and waiting time of an engine process.
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
    /// Makes a table, in memory that has no name in any directory.
    ///
    /// # Errors
    /// The system has no memory for it.
    pub fn create() -> io::Result<Self> {
        Ok(Self { memory: Arc::new(shared_memory(size_of::<Table>())?) })
    }

    /// Path by which other processes of the same user open it while this process lives.
    #[must_use]
    pub fn path(&self) -> PathBuf {
        self.memory.path()
    }

    /// Opens the table of another process.
    ///
    /// # Errors
    /// It does not exist any more, or is not a table.
    pub fn open(path: &Path) -> io::Result<Self> {
        let file = File::options().read(true).write(true).open(path)?;
        Ok(Self { memory: Arc::new(SharedMemory::of(file, size_of::<Table>())?) })
    }

    fn table(&self) -> &Table {
        self.memory.table()
    }

    /// Enters a process; none if the table is full. The default `share` is 100.
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

    /// Removes a process that has ended, for any reason. If it held the baton, another one gets it.
    pub fn forget(&self, pid: u32) {
        let table = self.table();
        let own = table.members.iter().position(|place| place.pid.load(SeqCst) == pid);
        let Some(at) = own.filter(|_| pid != 0) else {
            return;
        };
        let place = &table.members[at];
        // In this order, so that a member that chooses it at this moment either sees that it is away or is seen.
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

    /// Whether a process waits for the baton.
    #[must_use]
    pub fn is_waiting(&self, pid: u32) -> bool {
        let table = self.table();
        let at = table.members.iter().position(|place| place.pid.load(SeqCst) == pid);
        at.is_some_and(|at| {
            table.contender(at).is_some() && table.holder.load(SeqCst) != number(at)
        })
    }

    /// Computing and waiting time of a process.
    #[must_use]
    pub fn times(&self, pid: u32) -> Option<BatonTimes> {
        let place = self.table().members.iter().find(|place| place.pid.load(SeqCst) == pid)?;
        Some(BatonTimes {
            computed: Duration::from_nanos(place.computed.load(SeqCst)),
            waited: Duration::from_nanos(place.waited.load(SeqCst)),
        })
    }
}

/// The entry of a process in a [`Board`].
pub struct Baton {
    board: Board,
    at: usize,
    /// When it was taken, if it is held.
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

    /// Waits for the baton, unless it is held already. `work` is what will be computed with it.
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
        // The holder at the last check, if it neither computed nor waited then.
        let mut idle = None;
        loop {
            let bell = place.bell.load(SeqCst);
            // It is free, or was passed to this process.
            let taken = table.holder.compare_exchange(0, own, SeqCst, SeqCst);
            if taken.is_ok() || taken == Err(own) {
                break;
            }
            // A process that was killed while it took or passed the baton leaves it with a member that neither
            // computes nor waits. If that is seen twice, it may be taken.
            let seen = taken.err().filter(|&holder| is_left(table, holder));
            if seen.is_some() && seen == idle {
                let _ = table.holder.compare_exchange(seen.unwrap_or(0), 0, SeqCst, SeqCst);
                continue;
            }
            idle = seen;
            let timeout = LOOK_AGAIN.try_into().ok();
            // Woken, called before it slept, or after a while: check again in any case.
            let _ = futex::wait(&place.bell, futex::Flags::empty(), bell, timeout.as_ref());
        }
        place.state.store(HOLDS, SeqCst);
        place.waited.fetch_add(nanoseconds(begun.elapsed()), SeqCst);
        self.since.set(Some(Instant::now()));
    }

    /// Releases the baton, if it is held.
    pub fn release(&self) {
        if self.since.get().is_some() {
            self.count();
            self.since.set(None);
            self.place().state.store(AWAY, SeqCst);
            self.table().hand_on(self.at);
        }
    }

    /// Runs something that needs no processor, while others may compute.
    pub(crate) fn without(&self, wait: impl FnOnce()) {
        let was_held = self.since.get().is_some();
        self.release();
        wait();
        if was_held {
            self.take(self.work.get());
        }
    }

    /// Called between two layers: if others wait and the quantum is over, passes the baton on and waits for its return.
    pub fn between_layers(&self) {
        if self.since.get().is_none_or(|since| since.elapsed() < QUANTUM) {
            return;
        }
        // Counted even if none waits: the run of a returning process is compared with it.
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

    /// Whether another process waits.
    #[must_use]
    pub fn is_wanted(&self) -> bool {
        self.table().is_wanted()
    }

    /// Time that this process has waited for the baton.
    pub(crate) fn waited(&self) -> Duration {
        Duration::from_nanos(self.place().waited.load(SeqCst))
    }

    /// Adds the time since the last count to the computing time.
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

/// Whether the holder is a free entry, or a member that neither waits nor computes.
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
