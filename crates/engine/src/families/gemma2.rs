//! The `gemma2` family.
//!
//! Source: the family's published report and the GGUF naming of its tensors. Token
//! embeddings are multiplied by the square root of the width; norm weights in the file include their +1; norms follow
//! attention and feed-forward part. Even layers have windowed attention; scores and logits are softly limited.

use deft_formats::gguf::Header;

use super::blueprint::{Blueprint, LayerPlan, LayerStyle, Reader, usual_score_scale};
use super::parts::Sight;
use crate::load_error::LoadError;
use deft_kernels::GateCurve;
use deft_kernels::Pairs;

/// Number of layers of the largest model.
const LARGEST: u32 = 46;

pub(super) fn blueprint(header: &Header) -> Result<Blueprint, LoadError> {
    let reader = Reader::new(header)?;
    let shape = reader.shape(reader.count("feed_forward_length")?)?;
    let rotary = reader.rotary(&shape)?;
    let window = reader.count("attention.sliding_window")?;
    let score_cap = reader.float("attn_logit_softcapping")?;
    let logit_cap = reader.float("final_logit_softcapping")?;
    let blueprint = reader.blueprint(shape.clone(), Pairs::HalfSplit, |reader, layer| {
        let plan = reader.plain_layer(layer, &shape, rotary, style(false))?;
        let sight = if layer % 2 == 0 { Sight::Window(window) } else { Sight::Back };
        Ok(LayerPlan { sight, ..plan })
    })?;
    Ok(Blueprint { score_cap, logit_cap, ..scaled(blueprint, LARGEST) })
}

/// The features that this family and its successor share.
pub(super) fn style(head_norms: bool) -> LayerStyle {
    LayerStyle { head_norms, post_norms: true, gate: GateCurve::GeluTanh, ..LayerStyle::default() }
}

/// Sets the factors: embeddings are multiplied by the square root of the width. The largest model scales scores by its width per
/// head instead of its key length.
pub(super) fn scaled(mut blueprint: Blueprint, largest: u32) -> Blueprint {
    let shape = &blueprint.shape;
    if shape.layers == largest {
        blueprint.score_scale = usual_score_scale(shape.width / shape.heads);
    }
    #[expect(clippy::cast_precision_loss, reason = "widths are far below 2^24")]
    let embedding_scale = (shape.width as f32).sqrt();
    Blueprint { embedding_scale, ..blueprint }
}
