//! The `phi3` family.
//!
//! Source: Abdin et al. 2024, "Phi-3 Technical Report". One matrix holds the rows of queries, keys
//! and values, in this order; one holds gate and up, the gate first. Rotary embedding turns the two
//! halves of a head. Files with long and short rotary factors are refused so far.

use deft_formats::gguf::Header;

use super::blueprint::{Blueprint, LayerPlan, LayerStyle, Pairs, Reader, usual_score_scale};
use crate::model::LoadError;

pub(super) fn blueprint(header: &Header) -> Result<Blueprint, LoadError> {
    let mut reader = Reader::new(header)?;
    let shape = reader.shape(reader.count("feed_forward_length")?)?;
    let rotary = reader.rotary(&shape)?;
    // A window as long as the context hides nothing.
    let window = match reader.count_or("attention.sliding_window", shape.context_length)? {
        window if window < shape.context_length => Some(window),
        _ => None,
    };
    let (embedding, output_norm, output) = reader.ends(&shape)?;
    let style = LayerStyle { fused: true, ..LayerStyle::default() };
    let layers = (0..shape.layers)
        .map(|layer| {
            let plan = reader.plain_layer(layer, &shape, rotary, style)?;
            Ok(LayerPlan { window, ..plan })
        })
        .collect::<Result<_, LoadError>>()?;
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
