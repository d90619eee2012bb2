//! The families of models, one file each, on shared parts.

mod cache;
mod llama;
mod parts;

use deft_formats::gguf::Header;
use deft_planning::ModelShape;

pub use cache::LaneCache;
pub use parts::{Logits, Workspace};

use crate::mapped::MappedFile;
use crate::model::LoadError;

/// Families built here, as files write them.
pub const SUPPORTED: &[&str] = &["llama"];

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

/// The sizes of a model, with every tensor's presence and form checked.
///
/// # Errors
/// The family is not supported, or the file does not fit it.
pub fn shape(header: &Header) -> Result<ModelShape, LoadError> {
    match name(header)? {
        "llama" => llama::Layout::new(header).map(|layout| layout.shape),
        other => Err(LoadError::Family { family: other.to_owned() }),
    }
}

pub(crate) fn open(header: &Header, file: MappedFile) -> Result<Box<dyn Decoder>, LoadError> {
    match name(header)? {
        "llama" => Ok(Box::new(llama::Llama::new(llama::Layout::new(header)?, file)?)),
        other => Err(LoadError::Family { family: other.to_owned() }),
    }
}

#[cfg(test)]
mod tests;
