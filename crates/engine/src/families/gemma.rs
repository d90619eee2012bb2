//! The `gemma2` and `gemma3` families.
//!
//! Source: Gemma Team 2024, "Gemma 2"; 2025, "Gemma 3". Embedded tokens are scaled by the square root
//! of the width; norm weights in the file include their +1; norms follow attention and feed-forward
//! part. `gemma2` windows even layers and caps scores and logits; `gemma3` windows five of six layers
//! with a rotary base of their own, and norms each head of queries and keys.

use deft_formats::gguf::Header;
use deft_planning::ModelShape;

use super::blueprint::{
    Blueprint, Gate, LayerPlan, LayerStyle, Pairs, Reader, RotaryPlan, usual_score_scale,
};
use crate::model::LoadError;

/// Rotary base of windowed layers; older files do not carry it.
const LOCAL_BASE: f32 = 10_000.0;
/// One layer of so many sees everything.
const GLOBAL_EVERY: u32 = 6;

pub(super) fn gemma2(header: &Header) -> Result<Blueprint, LoadError> {
    let mut reader = Reader::new(header)?;
    let window = reader.count("attention.sliding_window")?;
    let score_cap = reader.float("attn_logit_softcapping")?;
    let logit_cap = reader.float("final_logit_softcapping")?;
    let style = style(false);
    let plan = |reader: &mut Reader<'_>, layer, shape: &ModelShape, rotary| {
        let plan = reader.plain_layer(layer, shape, rotary, style)?;
        Ok(LayerPlan { window: (layer % 2 == 0).then_some(window), ..plan })
    };
    let mut blueprint = blueprint(&mut reader, plan)?;
    // The largest of the family (46 layers) scales scores by its width per head instead.
    if blueprint.shape.layers == 46 {
        blueprint.score_scale = usual_score_scale(blueprint.shape.width / blueprint.shape.heads);
    }
    reader.tensors.finish()?;
    Ok(Blueprint { score_cap, logit_cap, ..blueprint })
}

pub(super) fn gemma3(header: &Header) -> Result<Blueprint, LoadError> {
    let mut reader = Reader::new(header)?;
    let window = reader.count("attention.sliding_window")?;
    let local_base = reader.float("rope.freq_base_swa")?.unwrap_or(LOCAL_BASE);
    let logit_cap = reader.float("final_logit_softcapping")?;
    let style = style(true);
    let plan = |reader: &mut Reader<'_>, layer: u32, shape: &ModelShape, rotary: RotaryPlan| {
        if (layer + 1).is_multiple_of(GLOBAL_EVERY) {
            return reader.plain_layer(layer, shape, rotary, style);
        }
        // Scaling is for the layers that see far only.
        let local = RotaryPlan { base: local_base, linear: 1.0, ..rotary };
        let plan = reader.plain_layer(layer, shape, local, style)?;
        Ok(LayerPlan { window: Some(window), ..plan })
    };
    let mut blueprint = blueprint(&mut reader, plan)?;
    // The largest of the family (62 layers) scales scores by its width per head instead.
    if blueprint.shape.layers == 62 {
        blueprint.score_scale = usual_score_scale(blueprint.shape.width / blueprint.shape.heads);
    }
    reader.tensors.finish()?;
    Ok(Blueprint { logit_cap, ..blueprint })
}

fn style(head_norms: bool) -> LayerStyle {
    LayerStyle { head_norms, post_norms: true, gate: Gate::GeluTanh, ..LayerStyle::default() }
}

fn blueprint<'h>(
    reader: &mut Reader<'h>,
    plan: impl Fn(&mut Reader<'h>, u32, &ModelShape, RotaryPlan) -> Result<LayerPlan, LoadError>,
) -> Result<Blueprint, LoadError> {
    let shape = reader.shape(reader.count("feed_forward_length")?)?;
    let rotary = reader.rotary(&shape)?;
    let (embedding, output_norm, output) = reader.ends(&shape)?;
    let layers = (0..shape.layers)
        .map(|layer| plan(reader, layer, &shape, rotary))
        .collect::<Result<_, _>>()?;
    #[expect(clippy::cast_precision_loss, reason = "widths are far below 2^24")]
    let embedding_scale = (shape.width as f32).sqrt();
    Ok(Blueprint {
        epsilon: reader.epsilon()?,
        embedding_scale,
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
