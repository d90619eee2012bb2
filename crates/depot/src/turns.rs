//! One at a time for each key.

use std::collections::BTreeMap;
use std::sync::{Arc, Mutex, PoisonError, Weak};

/// Locks by key; a key that nobody holds is forgotten.
#[derive(Debug, Default)]
pub(crate) struct Turns(Mutex<BTreeMap<String, Weak<tokio::sync::Mutex<()>>>>);

impl Turns {
    /// The lock of a key: whoever holds it has its turn.
    pub(crate) fn of(&self, key: &str) -> Arc<tokio::sync::Mutex<()>> {
        let mut turns = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        turns.retain(|_, turn| turn.strong_count() > 0);
        if let Some(turn) = turns.get(key).and_then(Weak::upgrade) {
            return turn;
        }
        let turn = Arc::default();
        turns.insert(key.to_owned(), Arc::downgrade(&turn));
        turn
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn each_key_is_held_by_one_at_a_time_and_forgotten_afterwards() {
        let turns = Turns::default();
        let (one, same) = (turns.of("a"), turns.of("a"));
        let held = one.lock().await;
        assert!(same.try_lock().is_err());
        assert!(turns.of("b").try_lock().is_ok());
        drop(held);
        assert!(same.try_lock().is_ok());
        drop((one, same));
        let _ = turns.of("c");
        assert_eq!(turns.0.lock().unwrap().len(), 1);
    }
}
