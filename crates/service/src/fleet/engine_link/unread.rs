//! Events of a call that wait until the caller reads them.

use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use tokio::sync::mpsc;

use super::CallEvent;

/// Most events of a call, and most bytes of them, that may wait until the caller reads them.
pub(super) const MOST_UNREAD: usize = 100_000;
pub(super) const MOST_UNREAD_BYTES: usize = 64 << 20;

/// The receiver of a call's events.
#[derive(Clone)]
pub(super) struct Listener {
    pub(super) events: mpsc::UnboundedSender<(usize, CallEvent)>,
    pub(super) unread: Arc<Unread>,
}

/// Events that wait until the caller reads them.
#[derive(Debug, Default)]
pub(super) struct Unread {
    events: AtomicUsize,
    bytes: AtomicUsize,
}

impl Unread {
    /// Counts an event; returns whether there are too many now.
    pub(super) fn add(&self, bytes: usize) -> bool {
        let events = self.events.fetch_add(1, Ordering::Relaxed) + 1;
        let bytes = self.bytes.fetch_add(bytes, Ordering::Relaxed) + bytes;
        events > MOST_UNREAD || bytes > MOST_UNREAD_BYTES
    }

    pub(super) fn remove(&self, bytes: usize) {
        self.events.fetch_sub(1, Ordering::Relaxed);
        self.bytes.fetch_sub(bytes, Ordering::Relaxed);
    }
}
