//! What a file says of itself: the facts that the depot shows.

use std::collections::BTreeMap;

use deft_formats::gguf::Header;
use deft_protocol::manage::{MixShare, ModelFacts};

use crate::families;
use crate::model::LoadError;
use crate::template::Template;
use crate::tokenizer::Tokenizer;

/// Reads the facts from a header, and checks everything about the file that can be checked without
/// its weights: family, tensors and their shapes, tokenizer.
///
/// # Errors
/// Why the file could not be loaded here.
pub fn read(header: &Header) -> Result<ModelFacts, LoadError> {
    let shape = families::shape(header)?;
    let tokenizer = Tokenizer::new(&header.metadata)?;
    let metadata = &header.metadata;
    let text = |key: &str| metadata.optional_text(key).ok().flatten().map(str::to_owned);
    let template = text("tokenizer.chat_template");
    let mut warnings = tokenizer.warnings().to_vec();
    match &template {
        None => warnings.push(format!(
            "the file has no chat template; conversations are written in a plain form ({})",
            Template::FALLBACK_IN_WORDS
        )),
        Some(source) => {
            let compiled = Template::new(Some(source), tokenizer.vocabulary());
            warnings.extend(compiled.defect().map(|defect| format!("chat template: {defect}")));
        }
    }
    let mix = mix(header);
    Ok(ModelFacts {
        family: families::name(header)?.to_owned(),
        name: text("general.name"),
        parameters: header.parameters(),
        quantisation: mix
            .first()
            .map_or_else(String::new, |share| share.tensor_type.to_lowercase()),
        mix,
        context_length: shape.context_length,
        layers: shape.layers,
        heads: shape.heads,
        kv_heads: shape.kv_heads,
        width: shape.width,
        vocabulary: shape.vocabulary,
        tokenizer: tokenizer_name(header),
        has_template: template.is_some(),
        template,
        licence: text("general.license"),
        description: text("general.description"),
        warnings,
    })
}

fn tokenizer_name(header: &Header) -> String {
    let text = |key: &str| header.metadata.optional_text(key).ok().flatten();
    match (text("tokenizer.ggml.model"), text("tokenizer.ggml.pre")) {
        (Some("gpt2"), Some(rule)) => format!("byte-level BPE, words cut by `{rule}`"),
        (Some("gpt2"), None) => "byte-level BPE".to_owned(),
        (Some("llama"), _) => "sentencepiece kind".to_owned(),
        (other, _) => other.unwrap_or("none").to_owned(),
    }
}

/// Tensor types by their bytes, largest first.
fn mix(header: &Header) -> Vec<MixShare> {
    let mut shares = BTreeMap::new();
    for tensor in &header.tensors {
        let (tensors, bytes) = shares.entry(tensor.tensor_type).or_insert((0u32, 0u64));
        *tensors += 1;
        *bytes += tensor.bytes;
    }
    let mut mix: Vec<MixShare> = shares
        .into_iter()
        .map(|(kind, (tensors, bytes))| MixShare {
            tensor_type: kind.name().to_owned(),
            tensors,
            bytes,
        })
        .collect();
    mix.sort_by_key(|share| std::cmp::Reverse(share.bytes));
    mix
}
