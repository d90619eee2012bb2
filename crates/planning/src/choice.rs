//! The choice of instances to unload.

use std::cmp::Reverse;
use std::time::Duration;

use crate::Bytes;

/// An idle instance that may be unloaded.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Unused<Id> {
    /// Its id.
    pub id: Id,
    /// Instances of lower importance are unloaded first.
    pub importance: i32,
    /// Time since its last call.
    pub idle: Duration,
    /// Memory that its unloading frees.
    pub frees: Bytes,
    /// Time that loading took.
    pub reload: Duration,
}

impl<Id> Unused<Id> {
    /// `idle time x size / reload cost`: the larger, the smaller the loss of unloading. The cost is at least a tenth of a second,
    /// so that tiny models differ.
    fn dispensable(&self) -> u128 {
        let reload = self.reload.as_millis().max(100);
        (self.idle.as_millis() + 1).saturating_mul(u128::from(self.frees.0)) / reload
    }
}

/// The least valuable first: by importance, then by idle time, size and reload cost.
#[must_use]
pub fn least_valuable_first<Id: Copy + Ord>(mut unused: Vec<Unused<Id>>) -> Vec<Id> {
    unused.sort_by_key(|found| (found.importance, Reverse(found.dispensable()), found.id));
    unused.into_iter().map(|found| found.id).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn unused(id: u32, importance: i32, idle: u64, mib: u64, reload: u64) -> Unused<u32> {
        Unused {
            id,
            importance,
            idle: Duration::from_secs(idle),
            frees: Bytes::mib(mib),
            reload: Duration::from_secs(reload),
        }
    }

    #[test]
    fn lower_priority_goes_first_whatever_else() {
        let order = least_valuable_first(vec![unused(1, 5, 9000, 900, 1), unused(2, 0, 1, 1, 60)]);
        assert_eq!(order, [2, 1]);
    }

    #[test]
    fn longer_idle_larger_and_cheaper_to_reload_go_first() {
        let order = |a, b| least_valuable_first(vec![a, b]);
        assert_eq!(order(unused(1, 0, 10, 100, 2), unused(2, 0, 500, 100, 2)), [2, 1]);
        assert_eq!(order(unused(1, 0, 10, 100, 2), unused(2, 0, 10, 800, 2)), [2, 1]);
        assert_eq!(order(unused(1, 0, 10, 100, 20), unused(2, 0, 10, 100, 2)), [2, 1]);
        assert_eq!(order(unused(2, 0, 10, 100, 2), unused(1, 0, 10, 100, 2)), [1, 2]);
    }
}
