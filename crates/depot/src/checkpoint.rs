//! Checkpoints: safetensors files with their settings beside them. They are kept as they are; loaded they
//! can be once they are converted.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use deft_formats::safetensors::SafeTensor;
use deft_protocol::manage::{MixShare, ModelFacts};
use serde_json::Value;

use crate::examine::{DepotError, read_error};
use crate::named::{NamedFile, NamedFileError};
use crate::store::FileRole;

/// The ending of its weights.
pub(crate) const ENDING: &str = "safetensors";
/// What describes it.
pub(crate) const CONFIG: &str = "config.json";
/// Its other files, if they exist.
pub(crate) const COMPANIONS: [&str; 10] = [
    CONFIG,
    "generation_config.json",
    "merges.txt",
    "model.safetensors.index.json",
    "preprocessor_config.json",
    "special_tokens_map.json",
    "tokenizer.json",
    "tokenizer.model",
    "tokenizer_config.json",
    "vocab.txt",
];
/// What an operator should know of one.
const NOTE: &str = "a checkpoint; it can be loaded after conversion to GGUF";

/// Whether a path is a checkpoint's weights.
pub(crate) fn is_one(path: &Path) -> bool {
    path.extension().is_some_and(|ending| ending == ENDING)
}

/// The files of the checkpoint that a file belongs to, weights first, each opened.
///
/// # Errors
/// Its settings are not there, a part is missing, or a file cannot be read.
pub(crate) fn files(
    weights: &Path,
    open: impl Fn(&Path) -> Result<NamedFile, NamedFileError>,
) -> Result<Vec<(FileRole, NamedFile)>, DepotError> {
    let role = |(role, path): (FileRole, PathBuf)| Ok((role, open(&path)?));
    paths(weights)?.into_iter().map(role).collect()
}

/// Where the files of a checkpoint are.
pub(crate) fn paths(weights: &Path) -> Result<Vec<(FileRole, PathBuf)>, DepotError> {
    let folder = weights.parent().unwrap_or(Path::new("."));
    let read = || -> std::io::Result<Vec<PathBuf>> {
        std::fs::read_dir(folder)?.map(|entry| entry.map(|entry| entry.path())).collect()
    };
    let mut all = read().map_err(|source| read_error(folder, source))?;
    // A link may lead anywhere; a checkpoint's files are its own.
    all.retain(|path| path.symlink_metadata().is_ok_and(|found| found.is_file()));
    all.sort();
    let named = |path: &&PathBuf| {
        let name = path.file_name().and_then(|name| name.to_str());
        name.is_some_and(|name| COMPANIONS.contains(&name))
    };
    let weights: Vec<&PathBuf> = all.iter().filter(|path| is_one(path)).collect();
    let others: Vec<&PathBuf> = all.iter().filter(named).collect();
    let config = folder.join(CONFIG);
    if !others.iter().any(|path| **path == config) {
        return Err(DepotError::NoFile { path: config });
    }
    let names = weights.iter().filter_map(|path| path.file_name()?.to_str());
    if let Some(missing) = missing_part(names) {
        return Err(DepotError::NoFile { path: folder.join(missing) });
    }
    let weights = weights.into_iter().map(|path| (FileRole::Weights, path.clone()));
    Ok(weights.chain(others.into_iter().map(|path| (FileRole::Config, path.clone()))).collect())
}

/// The first part that is missing among weights in parts.
pub(crate) fn missing_part<'a>(names: impl Iterator<Item = &'a str>) -> Option<String> {
    let names: Vec<&str> = names.collect();
    let wanted = names.iter().flat_map(|name| crate::name::all_parts(name));
    wanted.into_iter().find(|wanted| !names.contains(&&wanted[..]))
}

/// The facts of a checkpoint from its settings and tensors, given the number of its weight files.
pub(crate) fn facts(config: &Value, tensors: &[SafeTensor], files: u32) -> ModelFacts {
    let number = |key: &str| {
        config.get(key).and_then(Value::as_u64).and_then(|n| u32::try_from(n).ok()).unwrap_or(0)
    };
    let heads = number("num_attention_heads");
    let width = number("hidden_size");
    let head = match number("head_dim") {
        0 => width.checked_div(heads).unwrap_or(0),
        given => given,
    };
    let mix = mix(tensors);
    let kv_heads =
        if number("num_key_value_heads") == 0 { heads } else { number("num_key_value_heads") };
    ModelFacts {
        family: config.get("model_type").and_then(Value::as_str).unwrap_or("unknown").to_owned(),
        name: None,
        parameters: tensors.iter().map(SafeTensor::values).sum(),
        quantisation: mix
            .first()
            .map_or_else(String::new, |share| share.tensor_type.to_lowercase()),
        mix,
        context_length: number("max_position_embeddings"),
        layers: number("num_hidden_layers"),
        heads,
        kv_heads,
        width,
        vocabulary: number("vocab_size"),
        tokenizer: "in tokenizer.json".to_owned(),
        special_tokens: Vec::new(),
        tool_calls: None,
        reasoning: None,
        window: None,
        serves: Vec::new(),
        pooling: None,
        sample: None,
        files,
        key_length: head,
        value_length: head,
        has_template: false,
        template: None,
        licence: None,
        description: None,
        warnings: vec![NOTE.to_owned()],
    }
}

fn mix(tensors: &[SafeTensor]) -> Vec<MixShare> {
    let mut shares: BTreeMap<&str, (u32, u64)> = BTreeMap::new();
    for tensor in tensors {
        let (count, bytes) = shares.entry(&tensor.kind).or_default();
        *count += 1;
        *bytes += tensor.data.1 - tensor.data.0;
    }
    let share = |(kind, (tensors, bytes)): (&str, (u32, u64))| MixShare {
        tensor_type: kind.to_owned(),
        tensors,
        bytes,
    };
    let mut mix: Vec<MixShare> = shares.into_iter().map(share).collect();
    mix.sort_by_key(|share| std::cmp::Reverse(share.bytes));
    mix
}
