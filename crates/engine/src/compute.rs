//! What a model is computed with: instructions and threads.

use std::num::NonZero;

use deft_kernels::{Path, Team};

/// What a model is to be computed with.
#[derive(Debug, Clone, Copy)]
pub struct ComputeSettings {
    /// Instructions.
    pub path: Path,
    /// Threads; as many as there are processors where nothing is said.
    pub threads: Option<NonZero<usize>>,
}

impl Default for ComputeSettings {
    fn default() -> Self {
        Self { path: Path::best(), threads: None }
    }
}

/// Instructions, and a team of threads that waits.
pub(crate) struct Compute {
    pub(crate) path: Path,
    pub(crate) team: Team,
}

impl Compute {
    pub(crate) fn new(settings: ComputeSettings) -> Self {
        Self { path: settings.path, team: Team::new(settings.threads) }
    }
}
