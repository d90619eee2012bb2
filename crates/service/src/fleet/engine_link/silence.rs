//! How long a process has sent nothing.

use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};

/// Since when a process with calls has sent nothing.
pub(super) struct Silence {
    began: Instant,
    /// Milliseconds after that.
    since: AtomicU64,
}

impl Silence {
    pub(super) fn new() -> Self {
        Self { began: Instant::now(), since: AtomicU64::new(0) }
    }

    pub(super) fn ends(&self) {
        let now = u64::try_from(self.began.elapsed().as_millis()).unwrap_or(u64::MAX);
        self.since.store(now, Ordering::Relaxed);
    }

    pub(super) fn duration(&self) -> Duration {
        let since = Duration::from_millis(self.since.load(Ordering::Relaxed));
        self.began.elapsed().saturating_sub(since)
    }
}
