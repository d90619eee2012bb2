//! Wrong keys and codes are answered slowly: each waits twice as long as the one before.

use std::collections::HashMap;

use std::time::{Duration, Instant};

use parking_lot::Mutex;
use tokio::sync::Semaphore;

use super::peers::Peer;

/// The first wait, and the longest.
const FIRST: Duration = Duration::from_millis(250);
const LONGEST: Duration = Duration::from_secs(8);
/// Time after which a failed attempt does not count any more.
const FORGOTTEN: Duration = Duration::from_secs(600);
/// So many wait at once; more are sent away at once.
const WAITING: usize = 16;
/// So many users are remembered.
const REMEMBERED: usize = 256;

/// Who tried wrong keys lately.
pub(super) struct Attempts {
    wrong: Mutex<HashMap<Peer, (u32, Instant)>>,
    waiting: Semaphore,
}

/// How a wrong attempt is answered.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Answer {
    /// After a wait; the number says how many were wrong in a row.
    Slowly(u32),
    /// At once, for too many wait already.
    SentAway,
}

impl Default for Attempts {
    fn default() -> Self {
        Self { wrong: Mutex::default(), waiting: Semaphore::new(WAITING) }
    }
}

impl Attempts {
    /// Counts a wrong attempt, and waits for as long as it deserves.
    pub(super) async fn wrong(&self, peer: Peer) -> Answer {
        let Ok(_waits) = self.waiting.try_acquire() else {
            return Answer::SentAway;
        };
        let count = self.count(peer, Instant::now());
        tokio::time::sleep(wait(count)).await;
        Answer::Slowly(count)
    }

    fn count(&self, peer: Peer, now: Instant) -> u32 {
        let mut wrong = self.wrong.lock();
        wrong.retain(|_, (_, last)| now.duration_since(*last) < FORGOTTEN);
        if wrong.len() >= REMEMBERED {
            wrong.clear();
        }
        let (count, last) = wrong.entry(peer).or_insert((0, now));
        (*count, *last) = (*count + 1, now);
        *count
    }

    /// A right one makes good for the wrong ones.
    pub(super) fn right(&self, peer: Peer) {
        self.wrong.lock().remove(&peer);
    }
}

fn wait(count: u32) -> Duration {
    FIRST.saturating_mul(2_u32.saturating_pow(count.saturating_sub(1))).min(LONGEST)
}

#[cfg(test)]
mod tests {
    use super::*;

    const OTHER: Peer = Peer::User(1000);

    #[tokio::test(start_paused = true)]
    async fn each_wrong_attempt_waits_longer_than_the_one_before() {
        let attempts = Attempts::default();
        let mut waits = Vec::new();
        for _ in 0..8 {
            let began = tokio::time::Instant::now();
            attempts.wrong(OTHER).await;
            waits.push(began.elapsed());
        }
        assert!(waits[0] >= FIRST && waits.is_sorted() && waits[1] >= waits[0] * 2, "{waits:?}");
        assert!(waits.iter().all(|wait| *wait <= LONGEST + FIRST), "{waits:?}");
        assert_eq!(attempts.wrong(Peer::Unknown).await, Answer::Slowly(1), "others do not suffer");
        attempts.right(OTHER);
        assert_eq!(attempts.wrong(OTHER).await, Answer::Slowly(1));
    }

    #[tokio::test(start_paused = true)]
    async fn few_wait_at_once() {
        let attempts = std::sync::Arc::new(Attempts::default());
        let all: Vec<_> = (0..WAITING + 5)
            .map(|_| {
                let attempts = std::sync::Arc::clone(&attempts);
                tokio::spawn(async move { attempts.wrong(OTHER).await })
            })
            .collect();
        let answers = futures_util::future::join_all(all).await;
        let sent_away = answers.iter().filter(|answer| matches!(answer, Ok(Answer::SentAway)));
        assert_eq!(sent_away.count(), 5);
    }
}
