//! The family of a file.

use deft_formats::gguf::Header;

use crate::load_error::LoadError;

/// The family of encoders.
pub(super) const ENCODER: &str = "bert";

/// The name of the family that the file contains.
///
/// # Errors
/// The key is missing or not a text.
pub fn name(header: &Header) -> Result<&str, LoadError> {
    Ok(header.metadata.text("general.architecture")?)
}
