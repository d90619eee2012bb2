//! A limit on how fast everything together is fetched.

use std::num::NonZeroU32;
use std::sync::Arc;

use deft_planning::Bytes;
use governor::{DefaultDirectRateLimiter, Quota, RateLimiter};

/// Bytes that may go at once, as a share of a second.
const BURST: u64 = 8;

/// How fast may be fetched; cheap to clone, and shared by all that have a clone.
#[derive(Debug, Clone, Default)]
pub struct RateLimit {
    limiter: Option<Arc<(DefaultDirectRateLimiter, NonZeroU32)>>,
}

impl RateLimit {
    /// As fast as it comes.
    #[must_use]
    pub fn unlimited() -> Self {
        Self::default()
    }

    /// So many bytes a second; 4 GiB and more are no limit.
    #[must_use]
    pub fn limited(rate: Bytes) -> Self {
        let Some(each) = u32::try_from(rate.0).ok().and_then(NonZeroU32::new) else {
            return Self::unlimited();
        };
        let burst = (rate.0 / BURST).clamp(1, u64::from(u32::MAX));
        let burst = u32::try_from(burst).ok().and_then(NonZeroU32::new).unwrap_or(each);
        let limiter = RateLimiter::direct(Quota::per_second(each).allow_burst(burst));
        Self { limiter: Some(Arc::new((limiter, burst))) }
    }

    /// Waits until that many bytes may be received.
    pub(super) async fn take(&self, bytes: usize) {
        let Some(limiter) = &self.limiter else {
            return;
        };
        let (limiter, burst) = &**limiter;
        let mut left = bytes;
        while left > 0 {
            let now = left.min(burst.get() as usize);
            let cells = u32::try_from(now).ok().and_then(NonZeroU32::new);
            if let Some(cells) = cells {
                // It is never more than the burst, so it is granted some time.
                let _ = limiter.until_n_ready(cells).await;
            }
            left -= now;
        }
    }
}

#[cfg(test)]
mod tests {
    use std::time::Instant;

    use super::*;

    #[tokio::test]
    async fn two_that_share_a_limit_are_together_no_faster_than_it() {
        let rate_limit = RateLimit::limited(Bytes(400_000));
        let began = Instant::now();
        let one = async {
            for _ in 0..10 {
                rate_limit.take(10_000).await;
            }
        };
        let other = rate_limit.take(100_000);
        tokio::join!(one, other);
        // 200,000 bytes, an eighth of a second's worth of them at once.
        assert!(began.elapsed().as_secs_f64() > 0.3, "{:?}", began.elapsed());
        let began = Instant::now();
        RateLimit::unlimited().take(1 << 30).await;
        assert!(began.elapsed().as_secs_f64() < 0.1);
    }
}
