//! The interface of an opened model of any family.

use std::ops::Range;

use deft_kernels::Host;
use deft_planning::{LoadSettings, ModelShape};

use super::parts::{Run, Workspace};
use crate::cache::PageCopy;
use crate::layer_memory::{LayerMemory, OutOfMemory};

/// An opened model, with the memory for its computations.
pub(crate) trait Network: Send {
    /// The sizes that determine its memory.
    fn shape(&self) -> &ModelShape;

    /// The threads and instructions of the host.
    fn host(&self) -> &Host;

    /// Allocates pages, and buffers for steps of up to `tokens` tokens. All of it is touched, so that measured memory includes
    /// it.
    ///
    /// # Errors
    /// An accelerator has too little memory.
    fn hold(
        &mut self,
        settings: &LoadSettings,
        tokens: u32,
        layer_memory: &mut LayerMemory,
    ) -> Result<(), OutOfMemory>;

    /// Copies the beginning of a page, in all layers.
    fn copy_page(&mut self, copy: PageCopy);

    /// Computes the tokens of all runs, each after the tokens of its sequence; writes their keys and values, and the hidden
    /// states of the wanted tokens to `work.wanted`.
    ///
    /// The result of a token depends on its own sequence only, not on the division of a prompt into steps or on other runs.
    /// (An encoder must get an input as one run.)
    ///
    /// # Panics
    /// If a sequence has no room for its tokens, an id is beyond the vocabulary, or no memory was allocated; the lane checks
    /// all of them.
    fn step(&mut self, runs: &[Run<'_>], work: &mut Workspace);

    /// Computes the logits of some wanted tokens of the last step, into `work.logits`.
    ///
    /// # Panics
    /// For an encoder, which has no logits; the lane checks that.
    fn logits(&mut self, rows: Range<usize>, work: &mut Workspace);

    /// The scores of a pair of texts, from the state of its first token (`width` values).
    ///
    /// # Panics
    /// Without the head of a cross-encoder; the lane checks that.
    fn scores(&self, _state: &[f32]) -> Vec<f32> {
        panic!("this model has no head for scores");
    }

    /// Bytes of the allocated pages.
    #[cfg(test)]
    fn page_bytes(&self) -> usize;
}
