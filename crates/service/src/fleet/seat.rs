//! Seats: each call holds one at an instance while it is answered.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU32, AtomicU64, Ordering};
use std::time::Instant;

use parking_lot::Mutex;
use tokio::sync::mpsc;
use uuid::Uuid;

use super::engine_link::EngineLink;
use super::instance::Instance;
use super::queue::{Asker, Left};

/// The right of a call to use lanes of an instance. The lanes are busy until it is dropped.
pub(crate) struct Seat {
    /// The instance.
    pub(crate) instance: Uuid,
    pub(crate) link: EngineLink,
    pub(crate) name: String,
    pub(crate) context: u32,
    /// When the instance became ready.
    pub(crate) ready_since: Instant,
    pub(crate) load_seconds: f64,
    pub(crate) queue_seconds: f64,
    /// Whether to unload the instance after this call.
    pub(crate) release: bool,
    pub(super) taken_at: Instant,
    pub(super) lanes: u32,
    /// Whether the queue gave it.
    pub(super) from_queue: bool,
    /// Number of busy lanes of the engine process.
    pub(super) lanes_used: Arc<AtomicU32>,
    /// Number of running calls without a lane.
    pub(super) laneless: Arc<AtomicU32>,
    pub(super) use_made: Arc<UseMade>,
    pub(super) variant: Uuid,
    pub(super) caller: String,
    pub(super) leaving: mpsc::UnboundedSender<Left>,
}

/// Use of an instance, counted since it was loaded.
#[derive(Debug, Default)]
pub(super) struct UseMade {
    /// Number of running calls.
    pub(super) calls: AtomicU32,
    /// Whether a caller asked to unload it.
    pub(super) release: AtomicBool,
    /// When the last call ended.
    pub(super) ended: Mutex<Option<Instant>>,
    pub(super) prompt_tokens: AtomicU64,
    pub(super) cached_tokens: AtomicU64,
    pub(super) answer_tokens: AtomicU64,
}

impl Seat {
    /// Counts tokens of a call.
    pub(crate) fn count(&self, prompt: u32, reused: u32, answer: u32) {
        let made = &self.use_made;
        for (counter, tokens) in [
            (&made.prompt_tokens, prompt),
            (&made.cached_tokens, reused),
            (&made.answer_tokens, answer),
        ] {
            counter.fetch_add(tokens.into(), Ordering::Relaxed);
        }
    }
}

impl Drop for Seat {
    fn drop(&mut self) {
        if self.release {
            self.use_made.release.store(true, Ordering::Relaxed);
        }
        let mut ended = self.use_made.ended.lock();
        *ended = Some(Instant::now());
        self.use_made.calls.fetch_sub(1, Ordering::Relaxed);
        self.lanes_used.fetch_sub(self.lanes, Ordering::Relaxed);
        if self.lanes == 0 {
            self.laneless.fetch_sub(1, Ordering::Relaxed);
        }
        let (variant, caller) = (self.variant, std::mem::take(&mut self.caller));
        let (lanes, from_queue, held) = (self.lanes, self.from_queue, self.taken_at.elapsed());
        // An error means that the fleet has ended.
        let _ = self.leaving.send(Left { variant, caller, lanes, from_queue, held });
    }
}

impl Instance {
    /// A seat, if the instance is ready.
    pub(super) fn seat(&self, asker: &Asker) -> Option<Seat> {
        let process = self.ready_process()?;
        let lanes = asker.lanes.min(self.target.settings.lanes);
        self.use_made.calls.fetch_add(1, Ordering::Relaxed);
        self.lanes_used.fetch_add(lanes, Ordering::Relaxed);
        if lanes == 0 {
            self.laneless.fetch_add(1, Ordering::Relaxed);
        }
        let now = Instant::now();
        Some(Seat {
            instance: self.id,
            link: process.link.clone(),
            name: self.target.name.to_string(),
            context: self.target.settings.context,
            ready_since: self.ready_since.unwrap_or(now),
            load_seconds: 0.0,
            queue_seconds: 0.0,
            release: false,
            taken_at: now,
            lanes,
            from_queue: false,
            lanes_used: Arc::clone(&self.lanes_used),
            laneless: Arc::clone(&self.laneless),
            use_made: Arc::clone(&self.use_made),
            variant: self.target.variant,
            caller: asker.caller.clone(),
            leaving: self.leaving_seats.clone(),
        })
    }
}
