//! The families of models: a file for each, and the parts that they share.

mod bert;
mod blueprint;
mod buffers;
mod feed_forward;
mod gemma2;
mod gemma3;
mod home;
mod llama;
mod named;
mod network;
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

use deft_formats::gguf::Header;
use deft_planning::ModelShape;

pub use crate::load_error::SUPPORTED;
pub use named::name;
pub(crate) use network::Network;
pub(crate) use parts::{Run, Wanted, Workspace};
pub(crate) use pooling::Pooling;

use bert::Bert;
use blueprint::Blueprint;
use named::ENCODER;
use transformer::Transformer;

use crate::compute::ComputeSettings;
use crate::layer_memory::LayerMemory;
use crate::load_error::LoadError;
use crate::mapped::Mapped;

/// The blueprint of a decoder; `context` is the largest number of tokens of a sequence.
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

/// The sizes that a header contains.
pub(crate) struct Outline {
    pub(crate) shape: ModelShape,
    /// Number of layers, with or without a KV cache.
    pub(crate) layers: u32,
    /// Number of layers with windowed attention, and tokens of the window.
    pub(crate) window: Option<(u32, u32)>,
}

/// Reads the sizes of a header, and checks presence and shape of every tensor.
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

/// Reads the sizes of a model, and checks presence and shape of every tensor.
///
/// # Errors
/// The family is not supported, or the file does not fit it.
pub fn shape(header: &Header) -> Result<ModelShape, LoadError> {
    outline(header).map(|outline| outline.shape)
}

/// Opens a model for sequences of up to `context` tokens.
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
