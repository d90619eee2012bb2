//! The `phi3` family.
//!
//! Source: the family's published report and the GGUF naming of its tensors. One matrix holds the rows of queries, keys
//! and values, in this order; one holds gate and up, the gate first. Rotary embedding turns the two
//! halves of a head. Files with long and short rotary factors are refused so far.

use deft_formats::gguf::Header;

use super::blueprint::{Blueprint, LayerPlan, LayerStyle, Pairs, Reader};
use crate::model::LoadError;

pub(super) fn blueprint(header: &Header) -> Result<Blueprint, LoadError> {
    let reader = Reader::new(header)?;
    let shape = reader.shape(reader.count("feed_forward_length")?)?;
    let rotary = reader.rotary(&shape)?;
    // A window as long as the context hides nothing.
    let window = match reader.count_or("attention.sliding_window", shape.context_length)? {
        window if window < shape.context_length => Some(window),
        _ => None,
    };
    let style = LayerStyle { fused: true, ..LayerStyle::default() };
    reader.blueprint(shape.clone(), Pairs::HalfSplit, |reader, layer| {
        let plan = reader.plain_layer(layer, &shape, rotary, style)?;
        Ok(LayerPlan { window, ..plan })
    })
}
