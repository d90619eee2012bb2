//! The number of connections for a file: one more, as long as each makes the pull faster.

use std::time::Instant;

/// Bytes that one connection requests at a time: a few segments.
pub(super) const RUN: u64 = 32 << 20;
/// Most connections for one file.
const MOST_CONNECTIONS: usize = 4;
/// Factor by which another connection must make the pull faster.
const WORTH: f64 = 1.15;

/// Measures whether more connections make a pull faster.
pub(super) struct Growth {
    left: u64,
    /// Bytes since the last measurement.
    pub(super) bytes: u64,
    looked: Instant,
    /// Bytes per second before the last connection was added.
    before: f64,
    ended: bool,
}

impl Growth {
    pub(super) fn new(left: u64) -> Self {
        Self { left, bytes: 0, looked: Instant::now(), before: 0.0, ended: false }
    }

    /// Compares the rate with that of fewer connections.
    pub(super) fn wants_another(&mut self, connections: usize) -> bool {
        #[expect(clippy::cast_precision_loss, reason = "a rate")]
        let rate = self.bytes as f64 / self.looked.elapsed().as_secs_f64();
        self.left = self.left.saturating_sub(self.bytes);
        (self.bytes, self.looked) = (0, Instant::now());
        self.ended |= rate < self.before * WORTH || connections >= MOST_CONNECTIONS;
        self.before = rate;
        !self.ended && self.left > RUN && connections > 0
    }
}
