//! One at a time for each key.

use std::collections::BTreeMap;
use std::sync::{Arc, Weak};

use parking_lot::Mutex;
/// Locks by key; keys without a holder are removed.
#[derive(Debug, Default)]
pub(crate) struct KeyedLocks(Mutex<BTreeMap<String, Weak<tokio::sync::Mutex<()>>>>);

impl KeyedLocks {
    /// The lock of a key.
    pub(crate) fn of(&self, key: &str) -> Arc<tokio::sync::Mutex<()>> {
        let mut locks = self.0.lock();
        locks.retain(|_, lock| lock.strong_count() > 0);
        if let Some(lock) = locks.get(key).and_then(Weak::upgrade) {
            return lock;
        }
        let lock = Arc::default();
        locks.insert(key.to_owned(), Arc::downgrade(&lock));
        lock
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn each_key_is_held_by_one_at_a_time_and_forgotten_afterwards() {
        let locks = KeyedLocks::default();
        let (one, same) = (locks.of("a"), locks.of("a"));
        let held = one.lock().await;
        assert!(same.try_lock().is_err());
        assert!(locks.of("b").try_lock().is_ok());
        drop(held);
        assert!(same.try_lock().is_ok());
        drop((one, same));
        let _ = locks.of("c");
        assert_eq!(locks.0.lock().len(), 1);
    }
}
