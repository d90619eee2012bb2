//! The `llama` family, dense and with experts.
//!
//! Source: Touvron et al. 2023, "LLaMA"; experts after Jiang et al. 2024, "Mixtral of Experts".
//! Query and key rows are stored for rotary embedding on neighbouring pairs. `rope_freqs.weight`
//! divides the frequencies, where it is there.

use deft_formats::gguf::Header;

use super::blueprint::{Blueprint, LayerStyle, Pairs, Reader, usual_score_scale};
use crate::model::LoadError;

pub(super) fn blueprint(header: &Header) -> Result<Blueprint, LoadError> {
    let mut reader = Reader::new(header)?;
    let shape = reader.shape(reader.count("feed_forward_length")?)?;
    let rotary = reader.rotary(&shape)?;
    let style =
        LayerStyle { experts: reader.experts("feed_forward_length")?, ..LayerStyle::default() };
    let (embedding, output_norm, output) = reader.ends(&shape)?;
    let rotary_factors = if reader.tensors.has("rope_freqs.weight") {
        Some(reader.tensors.vector("rope_freqs.weight", rotary.dimensions / 2)?)
    } else {
        None
    };
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
        pairs: Pairs::Interleaved,
        rotary_factors,
        embedding,
        output_norm,
        output,
        layers,
        shape,
    })
}
