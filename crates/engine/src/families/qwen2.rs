//! The `qwen2` family.
//!
//! Source: the family's published report and the GGUF naming of its tensors. Rotary embedding
//! pairs the two halves of a head; queries, keys and values have biases.

use deft_formats::gguf::Header;

use super::blueprint::{Blueprint, LayerStyle, Reader};
use crate::load_error::LoadError;
use deft_kernels::Pairs;

pub(super) fn blueprint(header: &Header) -> Result<Blueprint, LoadError> {
    let reader = Reader::new(header)?;
    let inner = reader.count("feed_forward_length")?;
    let style = LayerStyle { biased: true, ..LayerStyle::default() };
    reader.plain_blueprint(inner, Pairs::HalfSplit, style)
}
