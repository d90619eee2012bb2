//! What every opened model can do, whatever its family.

use std::ops::Range;

use deft_kernels::Host;
use deft_planning::{LoadSettings, ModelShape};

use super::parts::{Run, Workspace};
use crate::cache::PageCopy;
use crate::layer_memory::{LayerMemory, OutOfMemory};

/// A model that reads tokens. It owns the memory that it computes with.
pub(crate) trait Network: Send {
    /// The sizes that decide what it needs.
    fn shape(&self) -> &ModelShape;

    /// The host's threads and instructions.
    fn host(&self) -> &Host;

    /// Takes the memory of pages, and of buffers for steps of so many tokens; all of it is touched now, so that what is
    /// measured is true from the start.
    ///
    /// # Errors
    /// A place has too little memory.
    fn hold(
        &mut self,
        settings: &LoadSettings,
        tokens: u32,
        layer_memory: &mut LayerMemory,
    ) -> Result<(), OutOfMemory>;

    /// Copies the beginning of a page, in all layers.
    fn copy_page(&mut self, copy: PageCopy);

    /// Takes in the tokens of all runs, each after what its sequence holds, writes their keys and
    /// values, and keeps the hidden states of those asked for in `work.wanted`.
    ///
    /// A token's result depends on its own sequence only, not on how a prompt was cut into steps
    /// nor on the other runs. (An encoder must get an input as one run.)
    ///
    /// # Panics
    /// When a sequence has no room for its tokens, an id is beyond the vocabulary, or no memory was taken: the lane
    /// checks all.
    fn step(&mut self, runs: &[Run<'_>], work: &mut Workspace);

    /// Logits of some of the tokens asked for in the last step, into `work.logits`.
    ///
    /// # Panics
    /// For an encoder, which has none: the lane checks.
    fn logits(&mut self, rows: Range<usize>, work: &mut Workspace);

    /// Bytes of the pages that it took.
    #[cfg(test)]
    fn page_bytes(&self) -> usize;
}
