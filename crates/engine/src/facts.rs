//! The facts that a model file contains about the model, for the depot.

use std::collections::BTreeMap;

use deft_formats::gguf::{Header, StoredModel};
use deft_protocol::manage::{
    MixShare, ModelFacts, ReasoningFacts, SpecialToken, ToolCallFacts, WindowFacts,
};
use serde_json::{Map, Value};

use crate::families::{self, Outline, Pooling};
use crate::load_error::LoadError;
use crate::output::{CallForm, OutputForm, ReasoningMarkers};
use crate::template::Template;
use crate::tokenizer::{Tokenizer, Vocabulary};

/// Longest sample of a rendered conversation, in characters.
const SAMPLE: usize = 4000;

/// Reads the facts from the headers of a model, and checks all that can be checked without the weights: family, tensors and
/// their shapes, tokenizer.
///
/// # Errors
/// The reason why the model could not be loaded.
pub fn read(file: &StoredModel) -> Result<ModelFacts, LoadError> {
    read_with(file, None)
}

/// As [`read`], with a chat template in place of the file's own.
///
/// # Errors
/// As [`read`].
pub fn read_with(file: &StoredModel, given: Option<&str>) -> Result<ModelFacts, LoadError> {
    let header = &file.header;
    let Outline { shape, layers, window } = families::outline(header)?;
    let pooling = Pooling::of(header)?;
    let tokenizer = Tokenizer::new(&header.metadata)?;
    let metadata = &header.metadata;
    let text = |key: &str| metadata.optional_text(key).ok().flatten().map(str::to_owned);
    let source = given.map(str::to_owned).or_else(|| text("tokenizer.chat_template"));
    let template = Template::new(source.as_deref(), tokenizer.vocabulary()).for_sample();
    let mut warnings = tokenizer.warnings().to_vec();
    if source.is_none() && !shape.encoder {
        warnings.push(format!(
            "the file has no chat template; conversations are rendered in a plain form ({})",
            Template::FALLBACK_IN_WORDS
        ));
    }
    warnings.extend(template.defect().map(|defect| format!("chat template: {defect}")));
    let sample = (!shape.encoder).then(|| sample(&template));
    let form = match shape.encoder {
        true => OutputForm::default(),
        false => OutputForm::find(&template, tokenizer.vocabulary()),
    };
    let fills = tokenizer.vocabulary().fill_in().is_some();
    let mut serves = serves(&form, source.is_some(), sample.as_ref(), pooling);
    if let Some(Pooling::Rank { scores: classes @ 2.. }) = pooling {
        warnings.push(format!(
            "the model sorts texts into {classes} classes; it cannot be called, because only models of one score order documents"
        ));
    }
    serves.extend((fills && !shape.encoder).then_some("fill-in-the-middle"));
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
        layers,
        heads: shape.heads,
        kv_heads: shape.kv_heads,
        key_length: shape.key_length,
        value_length: shape.value_length,
        width: shape.width,
        window: window.map(|(layers, tokens)| WindowFacts { layers, tokens }),
        vocabulary: shape.vocabulary,
        tokenizer: tokenizer_name(header),
        special_tokens: special_tokens(tokenizer.vocabulary()),
        serves: serves.into_iter().map(str::to_owned).collect(),
        tool_calls: form.calls.as_ref().map(tool_calls),
        reasoning: form.reasoning.map(reasoning),
        pooling: pooling.map(|pooling| pooling.name().to_owned()),
        sample: sample.map(|sample| match sample {
            Ok(text) => text.chars().take(SAMPLE).collect(),
            Err(why) => format!("it cannot be rendered: {why}"),
        }),
        files: u32::try_from(file.parts.len()).unwrap_or(u32::MAX),
        has_template: source.is_some(),
        template: source,
        licence: text("general.license"),
        description: text("general.description"),
        warnings,
    })
}

fn reasoning(markers: ReasoningMarkers) -> ReasoningFacts {
    ReasoningFacts { opening: markers.opening, closing: markers.closing }
}

fn tool_calls(form: &CallForm) -> ToolCallFacts {
    ToolCallFacts {
        form: form.kind.name().to_owned(),
        example: form.example(),
        several: form.separator.is_some(),
    }
}

/// The tasks of the model. `sample` is a conversation in the model's template; an encoder has none.
fn serves(
    form: &OutputForm,
    is_own: bool,
    sample: Option<&Result<String, String>>,
    pooling: Option<Pooling>,
) -> Vec<&'static str> {
    let mut serves = Vec::new();
    // A model without a template was trained to continue texts, not for conversations.
    if is_own && let Some(Ok(_)) = sample {
        serves.push("chat");
        if form.calls.is_some() {
            serves.push("tool calls");
        }
    }
    serves.extend(sample.map(|_| "completion"));
    serves.extend(match pooling {
        None | Some(Pooling::Rank { scores: 2.. }) => &[][..],
        Some(Pooling::Rank { .. }) => &["rerank"],
        Some(Pooling::Mean | Pooling::First | Pooling::Last) => &["embeddings", "rerank"],
    });
    serves
}

/// Renders a short conversation.
fn sample(template: &Template) -> Result<String, String> {
    let message = |role: &str, content: &str| -> Map<String, Value> {
        [("role", role), ("content", content)]
            .map(|(key, value)| (key.to_owned(), Value::from(value)))
            .into_iter()
            .collect()
    };
    let messages = [
        message("user", "When do I sow Moonhook bean?"),
        message("assistant", "In May."),
        message("user", "And how deep?"),
    ];
    let pieces = template.render(&messages, None).map_err(|error| error.to_string())?;
    Ok(pieces.into_iter().map(|piece| piece.text).collect())
}

fn special_tokens(vocabulary: &Vocabulary) -> Vec<SpecialToken> {
    let named = |role: &str, id: u32| {
        let (text, _) = vocabulary.get(id)?;
        Some(SpecialToken { role: role.to_owned(), id, text: text.to_owned() })
    };
    let roles = [
        ("begin", vocabulary.begin()),
        ("end", vocabulary.end()),
        ("unknown", vocabulary.unknown()),
    ];
    let roles = roles.into_iter().filter_map(|(role, id)| named(role, id?));
    let ends = vocabulary.ends().filter(|&id| Some(id) != vocabulary.end());
    roles.chain(ends.filter_map(|id| named("ends answers", id))).collect()
}

fn tokenizer_name(header: &Header) -> String {
    let text = |key: &str| header.metadata.optional_text(key).ok().flatten();
    match (text("tokenizer.ggml.model"), text("tokenizer.ggml.pre")) {
        (Some("gpt2"), Some(rule)) => format!("byte-level BPE, pre-tokenizer `{rule}`"),
        (Some("gpt2"), None) => "byte-level BPE".to_owned(),
        (Some("llama"), _) => "sentencepiece".to_owned(),
        (Some("bert"), _) => "WordPiece".to_owned(),
        (other, _) => other.unwrap_or("none").to_owned(),
    }
}

/// Tensor types in the order of their bytes, the largest first.
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

#[cfg(test)]
mod tests {
    use std::path::Path;

    use super::*;

    fn facts(name: &str) -> ModelFacts {
        let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..").join(name);
        read(&StoredModel::read(&path).unwrap()).unwrap()
    }

    /// One line for each family, for comparison with the description of the fixtures.
    #[test]
    fn every_family_tells_what_an_operator_asks() {
        let line = |name: &str| {
            let facts = facts(&format!("golden/models/{name}.gguf"));
            let window = facts.window.map_or("no window".to_owned(), |window| {
                format!("{} layers see {}", window.layers, window.tokens)
            });
            let ends: Vec<&str> = facts
                .special_tokens
                .iter()
                .filter(|token| token.role.contains("end"))
                .map(|token| token.text.as_str())
                .collect();
            format!(
                "{name}: {}; {} layers, {}/{} heads of {}/{}; {window}; {}; {}; ends {}",
                facts.family,
                facts.layers,
                facts.heads,
                facts.kv_heads,
                facts.key_length,
                facts.value_length,
                facts.serves.join(" + "),
                facts.pooling.unwrap_or_else(|| "no pooling".to_owned()),
                ends.join(" ")
            )
        };
        let names = [
            "llama",
            "llama-moe",
            "qwen2",
            "qwen3",
            "qwen3moe",
            "gemma2",
            "gemma3",
            "phi3",
            "bert-mean",
            "bert-cls",
            "bert-classes",
        ];
        insta::assert_snapshot!(names.map(line).join("\n"));
    }

    #[test]
    fn a_mixture_is_recognised_by_its_bytes() {
        let facts = facts("golden/models/llama-mixed.gguf");
        assert!(facts.mix.len() >= 11, "{:?}", facts.mix);
        assert!(facts.mix.is_sorted_by(|a, b| a.bytes >= b.bytes));
        assert_eq!(facts.quantisation, facts.mix[0].tensor_type.to_lowercase());
    }

    #[test]
    fn a_template_that_explodes_or_fails_is_reported_and_chat_is_not_offered() {
        for name in [
            "60-endless-template",
            "61-exploding-template",
            "62-recursive-template",
            "65-power-template",
        ] {
            let facts = facts(&format!("golden/bad/{name}.gguf"));
            assert!(!facts.serves.contains(&"chat".to_owned()), "{name}");
            assert!(facts.sample.unwrap().starts_with("it cannot be rendered"), "{name}");
            assert!(facts.serves.contains(&"completion".to_owned()), "{name}");
        }
        let syntax = facts("golden/bad/64-syntax-error-template.gguf");
        assert!(syntax.warnings.iter().any(|warning| warning.contains("chat template")));
    }

    #[test]
    fn a_file_without_a_template_says_how_conversations_are_written() {
        let facts = facts("golden/own/yarn.gguf");
        assert!(!facts.has_template);
        assert_eq!(facts.serves, ["completion"], "it was not made for conversations");
        assert!(facts.warnings.iter().any(|warning| warning.contains(Template::FALLBACK_IN_WORDS)));
        assert!(facts.sample.unwrap().contains("user: When do I sow Moonhook bean?"));
    }

    #[test]
    fn tool_calls_are_offered_where_the_template_tells_of_tools() {
        let desk = facts("demo/larkfen-desk/larkfen-desk-q8_0.gguf");
        assert_eq!(desk.serves, ["chat", "tool calls", "completion"]);
        assert_eq!(facts("golden/own/last.gguf").pooling.as_deref(), Some("last token"));
        assert_eq!(facts("golden/own/rank.gguf").serves, ["rerank"]);
    }
}
