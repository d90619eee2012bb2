//! Changes that have begun run to their end, whether or not whoever asked for them still listens: each on its
//! own task of the service's runtime, and a handler only waits for it.

use deft_protocol::{Problem, ProblemKind};
use tokio::runtime::Handle;
use tokio_util::task::TaskTracker;

/// Runs changes; cheap to clone.
#[derive(Clone)]
pub(crate) struct Changes {
    runtime: Handle,
    running: TaskTracker,
}

impl Changes {
    /// On the runtime that this is called on.
    pub(crate) fn here() -> Self {
        Self { runtime: Handle::current(), running: TaskTracker::new() }
    }

    /// Makes a change, and waits for it. The change continues if the caller does not wait any more.
    ///
    /// # Errors
    /// The change's own.
    pub(crate) async fn make<T: Send + 'static>(
        &self,
        change: impl Future<Output = Result<T, Problem>> + Send + 'static,
    ) -> Result<T, Problem> {
        let made = self.running.spawn_on(change, &self.runtime).await;
        made.unwrap_or_else(|error| {
            tracing::error!("a change was interrupted: {error}");
            Err(Problem::new(ProblemKind::Fault, "fault", error.to_string()))
        })
    }

    /// Waits until all that have begun are at their end.
    pub(crate) async fn finish(&self) {
        self.running.close();
        self.running.wait().await;
    }
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;
    use std::sync::atomic::{AtomicBool, Ordering};
    use std::time::Duration;

    use super::*;

    #[tokio::test]
    async fn a_change_goes_on_when_nobody_waits_for_it_any_more() {
        let changes = Changes::here();
        let done = Arc::new(AtomicBool::new(false));
        let change = {
            let done = Arc::clone(&done);
            async move {
                tokio::time::sleep(Duration::from_millis(50)).await;
                done.store(true, Ordering::SeqCst);
                Ok(())
            }
        };
        let waited = tokio::time::timeout(Duration::from_millis(5), changes.make(change)).await;
        assert!(waited.is_err(), "whoever asked has left");
        changes.finish().await;
        assert!(done.load(Ordering::SeqCst));
    }

    #[tokio::test]
    async fn a_change_that_panics_is_a_fault_and_no_silence() {
        let result = Changes::here().make::<()>(async { panic!("the row is not there") }).await;
        assert_eq!(result.unwrap_err().kind, ProblemKind::Fault);
    }
}
