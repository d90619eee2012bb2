//! The `qwen2`, `qwen3` and `qwen3moe` families.
//!
//! Source: Yang et al. 2024, "Qwen2 Technical Report"; Yang et al. 2025, "Qwen3 Technical Report".
//! Rotary embedding turns the two halves of a head. `qwen2` has biases on queries, keys and values;
//! `qwen3` norms each head of queries and keys instead.

use deft_formats::gguf::Header;

use super::blueprint::{Blueprint, LayerStyle, Pairs, Reader, unsupported, usual_score_scale};
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

fn blueprint(
    mut reader: Reader<'_>,
    inner: u32,
    style: LayerStyle,
) -> Result<Blueprint, LoadError> {
    let shape = reader.shape(inner)?;
    let rotary = reader.rotary(&shape)?;
    let (embedding, output_norm, output) = reader.ends(&shape)?;
    let layers = (0..shape.layers)
        .map(|layer| reader.plain_layer(layer, &shape, rotary, style))
        .collect::<Result<_, _>>()?;
    let epsilon = reader.epsilon()?;
    reader.tensors.finish()?;
    Ok(Blueprint {
        epsilon,
        embedding_scale: 1.0,
        score_scale: usual_score_scale(shape.key_length),
        score_cap: None,
        logit_cap: None,
        pairs: Pairs::HalfSplit,
        rotary_factors: None,
        embedding,
        output_norm,
        output,
        layers,
        shape,
    })
}
