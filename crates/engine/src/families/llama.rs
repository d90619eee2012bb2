//! The `llama` family, dense and with experts.
//!
//! Source: the family's published report and the GGUF naming of its tensors. Query and key rows are
//! stored for rotary embedding of neighbouring pairs. If the file has `rope_freqs.weight`, it divides the frequencies.

use deft_formats::gguf::Header;

use super::blueprint::{Blueprint, LayerStyle, Reader};
use crate::load_error::LoadError;
use deft_kernels::Pairs;

pub(super) fn blueprint(header: &Header) -> Result<Blueprint, LoadError> {
    let mut reader = Reader::new(header)?;
    let shape = reader.shape(reader.count("feed_forward_length")?)?;
    let rotary = reader.rotary(&shape)?;
    let experts = reader.experts("feed_forward_length")?;
    let style = LayerStyle { experts, ..LayerStyle::default() };
    let rotary_factors = if reader.tensors.has("rope_freqs.weight") {
        Some(reader.tensors.vector("rope_freqs.weight", rotary.dimensions / 2)?)
    } else {
        None
    };
    let blueprint = reader.blueprint(shape.clone(), Pairs::Interleaved, |reader, layer| {
        reader.plain_layer(layer, &shape, rotary, style)
    })?;
    Ok(Blueprint { rotary_factors, ..blueprint })
}
