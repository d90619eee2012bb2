//! The families of models, one file each, on shared parts.

mod bert;
mod blueprint;
mod feed_forward;
mod gemma2;
mod gemma3;
mod llama;
mod parts;
mod phi3;
mod pooling;
mod qwen2;
mod qwen3;
mod qwen3moe;
mod rotary;
mod stage;
mod tensors;
mod transformer;

use std::ops::Range;

use deft_formats::gguf::Header;
use deft_kernels::Host;
use deft_planning::{Bytes, LoadSettings, ModelShape};

pub(crate) use parts::{Run, Wanted, Workspace};
pub(crate) use pooling::Pooling;

use bert::Bert;
use blueprint::Blueprint;
use transformer::Transformer;

use crate::cache::PageCopy;
use crate::compute::ComputeSettings;
use crate::layer_memory::{LayerMemory, OutOfMemory};
use crate::mapped::Mapped;
use crate::model::LoadError;

/// Families built here, as files write them.
pub const SUPPORTED: &[&str] =
    &["llama", "qwen2", "qwen3", "qwen3moe", "gemma2", "gemma3", "phi3", "bert"];

/// The family that has no decoder.
const ENCODER: &str = "bert";

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

/// The layer a tensor belongs to, by its name (`blk.7.attn_q.weight`).
pub(crate) fn layer_of(tensor: &str) -> Option<usize> {
    tensor.strip_prefix("blk.")?.split('.').next()?.parse().ok()
}

/// Stored bytes of each of the layers.
pub(crate) fn layer_weights(header: &Header, layers: u32) -> Vec<Bytes> {
    // Every layer has a tensor, whatever the file says of their number.
    let mut weights = vec![Bytes(0); header.tensors.len().min(layers as usize)];
    for tensor in &header.tensors {
        if let Some(layer) = layer_of(&tensor.name).and_then(|layer| weights.get_mut(layer)) {
            *layer += Bytes(tensor.bytes);
        }
    }
    weights
}

/// The family's name as the file writes it.
///
/// # Errors
/// The key is missing or no text.
pub fn name(header: &Header) -> Result<&str, LoadError> {
    Ok(header.metadata.text("general.architecture")?)
}

/// A decoder by its family; `context` is what a sequence may hold.
fn blueprint(header: &Header, context: u32) -> Result<Blueprint, LoadError> {
    match name(header)? {
        "llama" => llama::blueprint(header),
        "qwen2" => qwen2::blueprint(header),
        "qwen3" => qwen3::blueprint(header),
        "qwen3moe" => qwen3moe::blueprint(header),
        "gemma2" => gemma2::blueprint(header),
        "gemma3" => gemma3::blueprint(header),
        "phi3" => phi3::blueprint(header, context),
        other => Err(LoadError::Family { family: other.to_owned() }),
    }
}

/// What a header tells of a model.
pub(crate) struct Outline {
    pub(crate) shape: ModelShape,
    /// Layers, whether or not they keep keys and values.
    pub(crate) layers: u32,
    /// How many layers see a window only, and how many tokens it has.
    pub(crate) window: Option<(u32, u32)>,
}

/// What a header tells, with every tensor's presence and form checked.
pub(crate) fn outline(header: &Header) -> Result<Outline, LoadError> {
    if name(header)? == ENCODER {
        let plan = bert::plan(header)?;
        return Ok(Outline { layers: plan.layers(), shape: plan.shape, window: None });
    }
    let blueprint = blueprint(header, u32::MAX)?;
    let windows: Vec<u32> =
        blueprint.layers.iter().filter_map(|plan| plan.sight.window()).collect();
    let window =
        windows.first().map(|&tokens| (u32::try_from(windows.len()).unwrap_or(u32::MAX), tokens));
    Ok(Outline { layers: blueprint.shape.layers, window, shape: blueprint.shape })
}

/// The sizes of a model, with every tensor's presence and form checked.
///
/// # Errors
/// The family is not supported, or the file does not fit it.
pub fn shape(header: &Header) -> Result<ModelShape, LoadError> {
    outline(header).map(|outline| outline.shape)
}

/// Opens a model whose sequences hold up to `context` tokens.
pub(crate) fn open(
    header: &Header,
    file: Mapped,
    layer_memory: &LayerMemory,
    context: u32,
    compute: ComputeSettings,
) -> Result<Box<dyn Network>, LoadError> {
    if name(header)? == ENCODER {
        return Ok(Box::new(Bert::new(bert::plan(header)?, file, layer_memory, compute)?));
    }
    Ok(Box::new(Transformer::new(blueprint(header, context)?, file, layer_memory, compute)?))
}

#[cfg(test)]
mod class_tests;
#[cfg(test)]
mod refusal_tests;
#[cfg(test)]
mod stage_tests;
#[cfg(test)]
mod tests;
