//! The family that a file names.

use deft_formats::gguf::Header;

use crate::load_error::LoadError;

/// The family without a decoder.
pub(super) const ENCODER: &str = "bert";

/// The family's name, as the file has it.
///
/// # Errors
/// The key is missing or no text.
pub fn name(header: &Header) -> Result<&str, LoadError> {
    Ok(header.metadata.text("general.architecture")?)
}
