//! Instructions and threads that a model is computed with.

use std::num::NonZero;

use deft_kernels::{Host, Instructions};

/// Instructions and threads that a model is computed with.
#[derive(Debug, Clone, Copy)]
pub struct ComputeSettings {
    /// Instructions.
    pub path: Instructions,
    /// Number of threads; by default one per processor.
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
