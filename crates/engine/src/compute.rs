//! What a model is to be computed with: instructions and threads.

use std::num::NonZero;

use deft_kernels::{Host, Instructions};

/// What a model is to be computed with.
#[derive(Debug, Clone, Copy)]
pub struct ComputeSettings {
    /// Instructions.
    pub path: Instructions,
    /// Threads; as many as there are processors where nothing is said.
    pub threads: Option<NonZero<usize>>,
}

impl Default for ComputeSettings {
    fn default() -> Self {
        Self { path: Instructions::best(), threads: None }
    }
}

impl ComputeSettings {
    pub(crate) fn host(self) -> Host {
        Host::new(self.path, self.threads)
    }
}
