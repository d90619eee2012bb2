//! The `gemma2` and `gemma3` families.
//!
//! Source: the families' published reports and the GGUF naming of their tensors. Embedded tokens are
//! scaled by the square root of the width; norm weights in the file include their +1; norms follow
//! attention and feed-forward part. `gemma2` windows even layers and caps scores and logits; `gemma3` windows five of six layers
//! with a rotary base of their own, and norms each head of queries and keys.

use deft_formats::gguf::Header;

use super::blueprint::{Blueprint, Gate, LayerPlan, LayerStyle, Reader, usual_score_scale};
use super::parts::Sight;
use super::rotary::{Pairs, RotaryPlan, Scaling};
use crate::model::LoadError;

/// Rotary base of windowed layers; older files do not carry it.
const LOCAL_BASE: f32 = 10_000.0;
/// One layer of so many sees everything.
const GLOBAL_EVERY: u32 = 6;

/// Layers of the largest `gemma2` and `gemma3`.
const LARGEST_GEMMA2: u32 = 46;
const LARGEST_GEMMA3: u32 = 62;

pub(super) fn gemma2(header: &Header) -> Result<Blueprint, LoadError> {
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
    Ok(Blueprint { score_cap, logit_cap, ..scaled(blueprint, LARGEST_GEMMA2) })
}

pub(super) fn gemma3(header: &Header) -> Result<Blueprint, LoadError> {
    let reader = Reader::new(header)?;
    let shape = reader.shape(reader.count("feed_forward_length")?)?;
    let rotary = reader.rotary(&shape)?;
    let window = reader.count("attention.sliding_window")?;
    let local_base = reader.float("rope.freq_base_swa")?.unwrap_or(LOCAL_BASE);
    let logit_cap = reader.float("final_logit_softcapping")?;
    let blueprint = reader.blueprint(shape.clone(), Pairs::HalfSplit, |reader, layer| {
        if (layer + 1).is_multiple_of(GLOBAL_EVERY) {
            return reader.plain_layer(layer, &shape, rotary, style(true));
        }
        // Scaling is for the layers that see far only.
        let local =
            RotaryPlan { base: local_base, scaling: Scaling::None, magnitude: 1.0, ..rotary };
        let plan = reader.plain_layer(layer, &shape, local, style(true))?;
        Ok(LayerPlan { sight: Sight::Window(window), ..plan })
    })?;
    Ok(Blueprint { logit_cap, ..scaled(blueprint, LARGEST_GEMMA3) })
}

fn style(head_norms: bool) -> LayerStyle {
    LayerStyle { head_norms, post_norms: true, gate: Gate::GeluTanh, ..LayerStyle::default() }
}

/// Embedded tokens are scaled by the square root of the width. The largest model of each family
/// scales scores by its width per head instead of its key length.
fn scaled(mut blueprint: Blueprint, largest: u32) -> Blueprint {
    let shape = &blueprint.shape;
    if shape.layers == largest {
        blueprint.score_scale = usual_score_scale(shape.width / shape.heads);
    }
    #[expect(clippy::cast_precision_loss, reason = "widths are far below 2^24")]
    let embedding_scale = (shape.width as f32).sqrt();
    Blueprint { embedding_scale, ..blueprint }
}
