//! The families of models, one file each, on shared parts.

mod blueprint;
mod cache;
mod gemma;
mod llama;
mod parts;
mod phi3;
mod qwen;
mod tensors;
mod transformer;

use deft_formats::gguf::Header;
use deft_planning::ModelShape;

pub use cache::LaneCache;
pub use parts::{Logits, Workspace};

use blueprint::Blueprint;
use transformer::Transformer;

use crate::mapped::MappedFile;
use crate::model::LoadError;

/// Families built here, as files write them.
pub const SUPPORTED: &[&str] = &["llama", "qwen2", "qwen3", "qwen3moe", "gemma2", "gemma3", "phi3"];

/// A model that reads tokens and tells how likely each next one is.
pub trait Decoder: Send {
    /// The sizes that decide what it needs.
    fn shape(&self) -> &ModelShape;

    /// Takes in `tokens` after what the cache holds and writes logits into `work`.
    ///
    /// The result does not depend on how a prompt was cut into steps.
    ///
    /// # Panics
    /// When the cache has no room for the tokens, or an id is beyond the vocabulary: the lane
    /// checks both.
    fn step(&self, tokens: &[u32], cache: &mut LaneCache, work: &mut Workspace, logits: Logits);
}

/// The family's name as the file writes it.
///
/// # Errors
/// The key is missing or no text.
pub fn name(header: &Header) -> Result<&str, LoadError> {
    Ok(header.metadata.text("general.architecture")?)
}

fn blueprint(header: &Header) -> Result<Blueprint, LoadError> {
    match name(header)? {
        "llama" => llama::blueprint(header),
        "qwen2" => qwen::qwen2(header),
        "qwen3" => qwen::qwen3(header),
        "qwen3moe" => qwen::qwen3moe(header),
        "gemma2" => gemma::gemma2(header),
        "gemma3" => gemma::gemma3(header),
        "phi3" => phi3::blueprint(header),
        other => Err(LoadError::Family { family: other.to_owned() }),
    }
}

/// The sizes of a model, with every tensor's presence and form checked.
///
/// # Errors
/// The family is not supported, or the file does not fit it.
pub fn shape(header: &Header) -> Result<ModelShape, LoadError> {
    blueprint(header).map(|blueprint| blueprint.shape)
}

pub(crate) fn open(header: &Header, file: MappedFile) -> Result<Box<dyn Decoder>, LoadError> {
    Ok(Box::new(Transformer::new(blueprint(header)?, file)?))
}

#[cfg(test)]
mod tests;
