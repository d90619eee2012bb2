//! The `qwen2`, `qwen3` and `qwen3moe` families.
//!
//! Source: the families' published reports and the GGUF naming of their tensors. Rotary embedding
//! turns the two halves of a head. `qwen2` has biases on queries, keys and values; `qwen3` norms each
//! head of queries and keys instead.

use deft_formats::gguf::Header;

use super::blueprint::{Blueprint, LayerStyle, Reader, unsupported};
use super::rotary::Pairs;
use crate::model::LoadError;

pub(super) fn qwen2(header: &Header) -> Result<Blueprint, LoadError> {
    let reader = Reader::new(header)?;
    let inner = reader.count("feed_forward_length")?;
    blueprint(reader, inner, LayerStyle { biased: true, ..LayerStyle::default() })
}

pub(super) fn qwen3(header: &Header) -> Result<Blueprint, LoadError> {
    let reader = Reader::new(header)?;
    let inner = reader.count("feed_forward_length")?;
    blueprint(reader, inner, LayerStyle { head_norms: true, ..LayerStyle::default() })
}

pub(super) fn qwen3moe(header: &Header) -> Result<Blueprint, LoadError> {
    let reader = Reader::new(header)?;
    let experts = reader.experts("expert_feed_forward_length")?;
    let experts = experts.ok_or_else(|| unsupported("it has no experts".to_owned()))?;
    let style = LayerStyle { head_norms: true, experts: Some(experts), ..LayerStyle::default() };
    blueprint(reader, experts.inner, style)
}

fn blueprint(reader: Reader<'_>, inner: u32, style: LayerStyle) -> Result<Blueprint, LoadError> {
    let shape = reader.shape(inner)?;
    let rotary = reader.rotary(&shape)?;
    reader.blueprint(shape.clone(), Pairs::HalfSplit, |reader, layer| {
        reader.plain_layer(layer, &shape, rotary, style)
    })
}
