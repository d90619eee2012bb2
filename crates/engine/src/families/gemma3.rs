//! The `gemma3` family.
//!
//! Source: the family's published report and the GGUF naming of its tensors. As `gemma2`, but five of
//! six layers have windowed attention, with another rotary base; each head of queries and keys has a norm; scores are not
//! limited.

use deft_formats::gguf::Header;

use deft_kernels::Pairs;

use super::blueprint::{Blueprint, LayerPlan, Reader};
use super::gemma2::{scaled, style};
use super::parts::Sight;
use super::rotary::{RotaryPlan, Scaling};
use crate::load_error::LoadError;

/// Rotary base of windowed layers; older files do not contain it.
const LOCAL_BASE: f32 = 10_000.0;
/// One of this many layers has full attention.
const GLOBAL_EVERY: u32 = 6;
/// Number of layers of the largest model.
const LARGEST: u32 = 62;

pub(super) fn blueprint(header: &Header) -> Result<Blueprint, LoadError> {
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
        // Only layers with full attention are scaled.
        let local =
            RotaryPlan { base: local_base, scaling: Scaling::None, magnitude: 1.0, ..rotary };
        let plan = reader.plain_layer(layer, &shape, local, style(true))?;
        Ok(LayerPlan { sight: Sight::Window(window), ..plan })
    })?;
    Ok(Blueprint { logit_cap, ..scaled(blueprint, LARGEST) })
}
