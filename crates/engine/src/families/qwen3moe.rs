//! The `qwen3moe` family: `qwen3` with experts in every layer.

use deft_formats::gguf::Header;

use super::blueprint::{Blueprint, LayerStyle, Reader, unsupported};
use crate::load_error::LoadError;
use deft_kernels::Pairs;

pub(super) fn blueprint(header: &Header) -> Result<Blueprint, LoadError> {
    let reader = Reader::new(header)?;
    let experts = reader.experts("expert_feed_forward_length")?;
    let experts = experts.ok_or_else(|| unsupported("it has no experts".to_owned()))?;
    let style = LayerStyle { head_norms: true, experts: Some(experts), ..LayerStyle::default() };
    reader.plain_blueprint(experts.inner, Pairs::HalfSplit, style)
}
