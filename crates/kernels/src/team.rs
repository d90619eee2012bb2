//! A team of compute threads, started once. Between two pieces of work they wait without a lock.
//!
//! A piece of work is divided into one part per thread, so that each thread reads a contiguous part of the weights. A
//! thread that has finished its part helps the others, a grain at a time. The assignment does not change any result.

use std::cell::{Cell, UnsafeCell};
use std::marker::PhantomData;
use std::num::NonZero;
use std::ops::Range;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::thread::{self, JoinHandle, Thread};

/// Number of checks for work before a thread sleeps: about a tenth of a millisecond, longer than the time between two
/// pieces of work of a step.
const LOOKS: u32 = 2_000;
/// Number of checks before a waiting thread yields its processor.
const LOOKS_BEFORE_YIELD: u32 = 500;

/// Work on a range of items; it also gets the index of the thread.
type Work<'a> = &'a (dyn Fn(usize, Range<usize>) + Sync);

/// A team of threads. The thread that gives the work is one of them.
#[derive(Debug)]
pub struct Team {
    shared: Arc<Shared>,
    others: Vec<JoinHandle<()>>,
    /// Only one thread at a time may give work, so a team cannot be shared between threads.
    one: PhantomData<Cell<()>>,
}

/// A part of the work: the next item, and the end.
#[derive(Debug)]
#[repr(align(128))]
struct Part {
    next: AtomicUsize,
    end: AtomicUsize,
}

struct Shared {
    /// Number of the current piece of work. All threads have seen a piece before the next is written.
    piece: AtomicUsize,
    /// Number of threads that have not finished the piece.
    busy: AtomicUsize,
    work: UnsafeCell<Option<Work<'static>>>,
    grain: AtomicUsize,
    parts: Vec<Part>,
    asleep: Vec<AtomicBool>,
    ended: AtomicBool,
    failed: AtomicBool,
}

impl std::fmt::Debug for Shared {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Shared").field("threads", &self.parts.len()).finish_non_exhaustive()
    }
}

// SAFETY: `work` is written by the one thread that owns the `Team`, before `piece` is counted on
// (release), and read by others after they saw that (acquire) and before they count `busy` down; it is
// not written again before `busy` is 0. Everything else is atomic.
unsafe impl Sync for Shared {}

// SAFETY: as for `Sync`; what `work` points to is `Sync`.
unsafe impl Send for Shared {}

impl Team {
    /// A team of `threads` threads, including the caller's own; by default one per processor of this process.
    ///
    /// The other threads are bound to a processor each, if there are enough and the system allows it.
    #[must_use]
    pub fn new(threads: Option<NonZero<usize>>) -> Self {
        let count = threads.map_or_else(crate::processors::count, NonZero::get);
        let shared = Arc::new(Shared {
            piece: AtomicUsize::new(0),
            busy: AtomicUsize::new(0),
            work: UnsafeCell::new(None),
            grain: AtomicUsize::new(1),
            parts: (0..count)
                .map(|_| Part { next: AtomicUsize::new(0), end: AtomicUsize::new(0) })
                .collect(),
            asleep: (0..count).map(|_| AtomicBool::new(false)).collect(),
            ended: AtomicBool::new(false),
            failed: AtomicBool::new(false),
        });
        let others = (1..count).map(|own| {
            let shared = Arc::clone(&shared);
            let name = format!("team {own}");
            let run = move || shared.serve(own);
            thread::Builder::new().name(name).spawn(run).expect("the system gives a thread")
        });
        Self { others: others.collect(), shared, one: PhantomData }
    }

    /// Binds the calling thread to a processor of its own, like the others; otherwise it would share one with them until
    /// the system moves it. For a thread that mostly gives work, because threads that it starts later inherit the binding.
    pub fn settle(&self) {
        crate::processors::stay_on(0, self.threads());
    }

    /// Number of threads.
    #[must_use]
    pub fn threads(&self) -> usize {
        self.shared.parts.len()
    }

    /// Runs work on `0..count`, in ranges of `grain` items (fewer at the end of a part), and returns when all is done. The
    /// work gets the index of its thread, below [`Team::threads`].
    ///
    /// # Panics
    /// If the work panics on any thread.
    pub fn each(&self, count: usize, grain: usize, work: impl Fn(usize, Range<usize>) + Sync) {
        let threads = self.threads();
        if threads == 1 || count <= grain {
            if count > 0 {
                work(0, 0..count);
            }
            return;
        }
        let shared = &*self.shared;
        // In whole grains, so that ranges begin at multiples of the grain.
        let grains = count.div_ceil(grain);
        for (at, part) in shared.parts.iter().enumerate() {
            part.next.store(grains * at / threads * grain, Ordering::Relaxed);
            let end = grains * (at + 1) / threads * grain;
            part.end.store(end.min(count), Ordering::Relaxed);
        }
        shared.grain.store(grain, Ordering::Relaxed);
        self.hand_out(&work);
        shared.take(0, &work);
        self.wait();
    }

    /// Runs work on each row of a slice, with its index and its `length` values.
    ///
    /// # Panics
    /// As [`Team::each`].
    pub fn rows<T: Send>(
        &self,
        slice: &mut [T],
        length: usize,
        grain: usize,
        work: impl Fn(usize, &mut [T]) + Sync,
    ) {
        let rows = slice.len() / length.max(1);
        let places = DisjointRows::new(slice, length);
        self.each(rows, grain, |_, range| {
            for row in range {
                // SAFETY: rows are given to one thread once.
                work(row, unsafe { places.take(row) });
            }
        });
    }

    fn hand_out(&self, work: Work<'_>) {
        let shared = &*self.shared;
        // SAFETY: only the lifetime changes. `each` does not return, and does not unwind, before `wait`
        // saw that no other thread uses it: `take` catches what the work panics with.
        let work: Work<'static> = unsafe { std::mem::transmute(work) };
        // SAFETY: no thread reads it now: `busy` is 0, and `piece` not yet counted on.
        unsafe { *shared.work.get() = Some(work) };
        shared.busy.store(self.others.len(), Ordering::Relaxed);
        shared.piece.fetch_add(1, Ordering::SeqCst);
        for (at, other) in self.others.iter().enumerate() {
            if shared.asleep[at + 1].load(Ordering::SeqCst) {
                other.thread().unpark();
            }
        }
    }

    fn wait(&self) {
        let mut looks = 0;
        while self.shared.busy.load(Ordering::Acquire) > 0 {
            looks += 1;
            if looks > LOOKS_BEFORE_YIELD {
                thread::yield_now();
            } else {
                std::hint::spin_loop();
            }
        }
        let failed = self.shared.failed.swap(false, Ordering::Relaxed);
        assert!(!failed, "a piece of work panicked");
    }
}

impl Drop for Team {
    fn drop(&mut self) {
        self.shared.ended.store(true, Ordering::SeqCst);
        let threads: Vec<&Thread> = self.others.iter().map(JoinHandle::thread).collect();
        threads.into_iter().for_each(Thread::unpark);
        for other in self.others.drain(..) {
            // The panic message was printed when it happened.
            let _ = other.join();
        }
    }
}

impl Shared {
    /// The main loop of a thread.
    fn serve(&self, own: usize) {
        crate::processors::stay_on(own, self.parts.len());
        let mut seen = 0;
        while self.next_piece(own, &mut seen) {
            // SAFETY: the piece was counted on after the work was written, and the next one is not
            // written before this thread counted itself down below.
            let work = unsafe { *self.work.get() };
            if let Some(work) = work {
                self.take(own, work);
            }
            self.busy.fetch_sub(1, Ordering::Release);
        }
    }

    /// Waits for the next piece; returns whether there is one.
    fn next_piece(&self, own: usize, seen: &mut usize) -> bool {
        let arrived = |seen: &mut usize| {
            let now = self.piece.load(Ordering::SeqCst);
            std::mem::replace(seen, now) != now
        };
        for _ in 0..LOOKS {
            if arrived(seen) {
                return true;
            }
            std::hint::spin_loop();
        }
        self.asleep[own].store(true, Ordering::SeqCst);
        loop {
            if self.ended.load(Ordering::SeqCst) {
                return false;
            }
            if arrived(seen) {
                self.asleep[own].store(false, Ordering::SeqCst);
                return true;
            }
            thread::park();
        }
    }

    /// Works on its own part, then on the rest of the others'.
    fn take(&self, own: usize, work: Work<'_>) {
        let grain = self.grain.load(Ordering::Relaxed);
        let all = || {
            for turn in 0..self.parts.len() {
                let part = &self.parts[(own + turn) % self.parts.len()];
                let end = part.end.load(Ordering::Relaxed);
                loop {
                    let from = part.next.fetch_add(grain, Ordering::Relaxed);
                    if from >= end {
                        break;
                    }
                    work(own, from..end.min(from + grain));
                }
            }
        };
        if std::panic::catch_unwind(std::panic::AssertUnwindSafe(all)).is_err() {
            self.failed.store(true, Ordering::Relaxed);
        }
    }
}

/// A slice of rows of equal length. Threads may write different rows at the same time.
#[derive(Debug)]
pub(crate) struct DisjointRows<'a, T> {
    start: *mut T,
    rows: usize,
    length: usize,
    slice: PhantomData<&'a mut [T]>,
}

// SAFETY: it hands out disjoint rows, as `take` demands.
unsafe impl<T: Send> Sync for DisjointRows<'_, T> {}

impl<'a, T> DisjointRows<'a, T> {
    /// The rows of a slice.
    pub(crate) fn new(slice: &'a mut [T], length: usize) -> Self {
        let rows = slice.len() / length.max(1);
        Self { start: slice.as_mut_ptr(), rows, length, slice: PhantomData }
    }

    /// A row.
    ///
    /// # Safety
    /// No other thread has the row at the same time. ([`Team::each`] gives each item to one thread, once.)
    #[expect(clippy::mut_from_ref, reason = "each row is written by one thread")]
    pub(crate) unsafe fn take(&self, row: usize) -> &mut [T] {
        assert!(row < self.rows, "row {row} of {}", self.rows);
        // SAFETY: the row lies within the slice, and the caller promises that it has it alone.
        unsafe { std::slice::from_raw_parts_mut(self.start.add(row * self.length), self.length) }
    }
}

/// The output of a product, `tokens x rows`. Threads write different ranges of rows at the same time.
#[derive(Debug)]
pub(crate) struct Outputs<'a> {
    start: *mut f32,
    tokens: usize,
    rows: usize,
    slice: PhantomData<&'a mut [f32]>,
}

// SAFETY: it hands out disjoint stretches, as `stretch` demands.
unsafe impl Sync for Outputs<'_> {}

impl<'a> Outputs<'a> {
    /// The output of a product with a matrix of `rows` rows.
    pub(crate) fn new(slice: &'a mut [f32], rows: usize) -> Self {
        let tokens = slice.len() / rows.max(1);
        Self { start: slice.as_mut_ptr(), tokens, rows, slice: PhantomData }
    }

    /// Results of a token for a range of rows.
    ///
    /// # Safety
    /// No other thread has one of them at the same time. ([`Team::each`] gives each item to one thread, once.)
    #[expect(clippy::mut_from_ref, reason = "each row is written by one thread")]
    pub(crate) unsafe fn stretch(&self, token: usize, rows: Range<usize>) -> &mut [f32] {
        assert!(token < self.tokens && rows.start <= rows.end && rows.end <= self.rows);
        // SAFETY: the stretch lies within the slice, and the caller promises that it has it alone.
        unsafe {
            let start = self.start.add(token * self.rows + rows.start);
            std::slice::from_raw_parts_mut(start, rows.len())
        }
    }

    /// Results of a range of tokens and rows.
    ///
    /// # Safety
    /// As [`Self::stretch`], for all of them.
    #[cfg(target_arch = "x86_64")]
    pub(crate) unsafe fn results(&self, tokens: Range<usize>, rows: Range<usize>) -> Results<'_> {
        assert!(tokens.start <= tokens.end && tokens.end <= self.tokens);
        assert!(rows.start <= rows.end && rows.end <= self.rows);
        let start = self.start.wrapping_add(tokens.start * self.rows + rows.start);
        let (tokens, rows) = (tokens.len(), rows.len());
        Results { start, tokens, rows, stride: self.rows, slice: PhantomData }
    }
}

/// Results of a range of tokens and rows, which belong to one thread.
#[cfg(target_arch = "x86_64")]
#[derive(Debug)]
pub(crate) struct Results<'a> {
    start: *mut f32,
    tokens: usize,
    rows: usize,
    stride: usize,
    slice: PhantomData<&'a mut [f32]>,
}

#[cfg(target_arch = "x86_64")]
impl Results<'_> {
    pub(crate) fn tokens(&self) -> usize {
        self.tokens
    }

    pub(crate) fn rows(&self) -> usize {
        self.rows
    }

    /// Address of a token's result for a row, and the number of results from there.
    #[inline(always)]
    pub(crate) fn at(&self, token: usize, row: usize) -> (*mut f32, usize) {
        debug_assert!(token < self.tokens && row < self.rows);
        (self.start.wrapping_add(token * self.stride + row), self.rows - row)
    }

    /// Prefetches the cache lines of a token's results, which will be written soon.
    pub(crate) fn fetch(&self, token: usize) {
        use std::arch::x86_64::{_MM_HINT_ET0, _mm_prefetch};
        let (first, rows) = self.at(token, 0);
        for at in (0..rows).step_by(crate::sixteen::REGISTER) {
            // SAFETY: a prefetch of any address, valid or not, has no effect that a program can observe.
            unsafe { _mm_prefetch::<_MM_HINT_ET0>(first.wrapping_add(at).cast()) };
        }
    }
}

#[cfg(test)]
mod tests {
    use std::sync::Mutex;
    use std::time::{Duration, Instant};

    use super::*;

    fn team(threads: usize) -> Team {
        Team::new(NonZero::new(threads))
    }

    #[test]
    fn everything_is_done_once_whatever_the_number_of_threads() {
        for threads in [1, 2, 3, 7] {
            let team = team(threads);
            for (count, grain) in [(0, 1), (1, 1), (5, 16), (16, 16), (17, 16), (1000, 7), (64, 64)]
            {
                let done: Vec<AtomicUsize> = (0..count).map(|_| AtomicUsize::new(0)).collect();
                for _ in 0..20 {
                    team.each(count, grain, |thread, range| {
                        assert!(thread < threads && range.start % grain == 0);
                        range.for_each(|at| {
                            done[at].fetch_add(1, Ordering::Relaxed);
                        });
                    });
                }
                let wrong = done.iter().filter(|done| done.load(Ordering::Relaxed) != 20).count();
                assert_eq!(wrong, 0, "{threads} threads, {count} items by {grain}");
            }
        }
    }

    #[test]
    fn a_settled_thread_stays_and_so_do_all_that_belong_to_a_team_as_large_as_the_machine() {
        let places = std::thread::spawn(|| {
            let team = Team::new(None);
            team.settle();
            // A team that a bound thread starts still uses all processors.
            let other = Team::new(None);
            assert_eq!(team.threads(), other.threads());
            let places: Mutex<Vec<_>> = Mutex::default();
            for team in [&team, &other] {
                let threads = team.threads();
                let all = std::sync::Barrier::new(threads);
                team.each(threads, 1, |thread, _| {
                    all.wait();
                    let processor = rustix::thread::sched_getcpu();
                    places.lock().unwrap().push((thread, processor));
                });
            }
            places.into_inner().unwrap()
        });
        let processors = crate::processors::mine();
        for (thread, processor) in places.join().unwrap() {
            assert_eq!(processor, processors[thread], "thread {thread}");
        }
    }

    #[test]
    fn sleeping_threads_are_woken() {
        let team = team(3);
        for _ in 0..3 {
            std::thread::sleep(Duration::from_millis(30));
            let (seen, items) = (Mutex::new([false; 3]), AtomicUsize::new(0));
            let deadline = Instant::now() + Duration::from_secs(60);
            team.each(300, 1, |thread, _| {
                items.fetch_add(1, Ordering::Relaxed);
                seen.lock().unwrap()[thread] = true;
                // The threads wait for each other here; all of them are awake by then.
                while *seen.lock().unwrap() != [true; 3] && Instant::now() < deadline {
                    std::thread::sleep(Duration::from_micros(50));
                }
            });
            assert_eq!((seen.into_inner().unwrap(), items.into_inner()), ([true; 3], 300));
        }
    }

    #[test]
    fn a_panic_is_reported_and_the_team_goes_on() {
        let team = team(2);
        let result = std::panic::catch_unwind(std::panic::AssertUnwindSafe(|| {
            team.each(100, 1, |_, range| assert!(range.start != 70, "the seventieth"));
        }));
        assert!(result.is_err());
        let sum = AtomicUsize::new(0);
        team.each(10, 1, |_, range| {
            sum.fetch_add(range.start, Ordering::Relaxed);
        });
        assert_eq!(sum.into_inner(), 45);
    }

    /// Processor time of this process's threads with a name, in the kernel's ticks.
    fn ticks_of(name: &str) -> u64 {
        let tasks = std::fs::read_dir("/proc/self/task").unwrap();
        tasks
            .filter_map(|task| {
                let text = std::fs::read_to_string(task.ok()?.path().join("stat")).ok()?;
                let (head, rest) = text.rsplit_once(')')?;
                if !head.ends_with(name) {
                    return None;
                }
                let mut words = rest.split_whitespace().skip(11);
                Some(words.next()?.parse::<u64>().ok()? + words.next()?.parse::<u64>().ok()?)
            })
            .sum()
    }

    #[test]
    fn an_idle_team_uses_no_processor_time() {
        let team = team(5);
        team.each(100, 1, |_, _| {});
        std::thread::sleep(Duration::from_millis(200));
        let before = ticks_of("team 4");
        std::thread::sleep(Duration::from_millis(500));
        assert_eq!(ticks_of("team 4"), before);
        drop(team);
    }
}
