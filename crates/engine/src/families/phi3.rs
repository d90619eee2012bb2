//! The `phi3` family.
//!
//! Source: the family's published report, Ding et al. 2024 ("LongRoPE") and the GGUF naming of its
//! tensors. One matrix has the rows of queries, keys and values, in this order; another has gate and
//! up, the gate first. Rotary embedding pairs the two halves of a head.
//!
//! Files for long contexts have two lists of divisors of the rotary frequencies. The list for long contexts is used if the
//! context of the instance is longer than that of the original training, otherwise the other one. The choice does not change
//! while the model is loaded, so that cached keys equal computed ones.

use deft_formats::gguf::Header;
use deft_planning::ModelShape;

use deft_kernels::Pairs;

use super::blueprint::{Blueprint, LayerPlan, LayerStyle, Reader};
use super::parts::Sight;
use super::rotary::RotaryPlan;
use super::tensors::VectorPlace;
use crate::load_error::LoadError;

pub(super) fn blueprint(header: &Header, context: u32) -> Result<Blueprint, LoadError> {
    let mut reader = Reader::new(header)?;
    let shape = reader.shape(reader.count("feed_forward_length")?)?;
    let (rotary, rotary_factors) = long_rotary(&mut reader, &shape, context)?;
    // Files of models without a window may contain 0. A window as long as the context has no effect.
    let window = header.metadata.optional_count(&reader.key("attention.sliding_window"))?;
    let sight = match window {
        Some(window) if (1..shape.context_length).contains(&window) => Sight::Window(window),
        _ => Sight::Back,
    };
    let style = LayerStyle { fused: true, ..LayerStyle::default() };
    let blueprint = reader.blueprint(shape.clone(), Pairs::HalfSplit, |reader, layer| {
        let plan = reader.plain_layer(layer, &shape, rotary, style)?;
        Ok(LayerPlan { sight, ..plan })
    })?;
    Ok(Blueprint { rotary_factors, ..blueprint })
}

fn long_rotary(
    reader: &mut Reader<'_>,
    shape: &ModelShape,
    context: u32,
) -> Result<(RotaryPlan, Option<VectorPlace>), LoadError> {
    let rotary = reader.rotary(shape)?;
    if !reader.tensors.has("rope_factors_long.weight") {
        return Ok((rotary, None));
    }
    let pairs = rotary.dimensions / 2;
    let long = reader.tensors.vector("rope_factors_long.weight", pairs)?;
    let short = reader.tensors.vector("rope_factors_short.weight", pairs)?;
    let original = reader.count("rope.scaling.original_context_length")?;
    let factors = if context > original { long } else { short };
    let magnitude = match reader.float("rope.scaling.attn_factor")? {
        Some(given) => given,
        None => magnitude(shape.context_length, original),
    };
    Ok((RotaryPlan { magnitude, ..rotary }, Some(factors)))
}

/// `sqrt(1 + ln(longest / original) / ln(original))` for models with an extended context, otherwise 1.
#[expect(clippy::cast_possible_truncation, reason = "computed wide, used in f32")]
fn magnitude(longest: u32, original: u32) -> f32 {
    let (longest, original) = (f64::from(longest), f64::from(original));
    if longest <= original {
        return 1.0;
    }
    (1.0 + (longest / original).ln() / original.ln()).sqrt() as f32
}
