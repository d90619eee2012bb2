//! Tests with the golden models: logits within the documented tolerances, equal greedy tokens, and equal results for any
//! division into steps.

use std::path::{Path, PathBuf};

use deft_kernels::{Class, Instructions};
use deft_planning::{CacheType, Demand, LoadSettings, PartKind, Placement, Weights};
use serde_json::Value;

use super::*;
use crate::cache::{KvCache, Sequence};
use crate::compute::ComputeSettings;
use crate::layer_memory::LayerMemory;
use crate::load_error::LoadError;
use crate::model::Model;

/// Tolerance for files with float weights (golden/README.md).
const FLOAT_TOLERANCE: f32 = 1e-3;
/// Tolerance for eight-bit activations: root mean square, relative to the spread of the logits.
const EIGHT_BIT_TOLERANCE: f64 = 0.05;
/// The same for products in BF16 (all files but those with weights in single precision).
const BF16_TOLERANCE: f64 = 0.035;

/// A path of each class: the best one, and the one that computes in tiles.
pub(super) fn one_of_each_class() -> [Instructions; 2] {
    let mut found = Instructions::available();
    let tiles = found.find(|path| path.class() == Class::Bf16);
    [Instructions::best(), tiles.expect("one is simulated everywhere")]
}

pub(super) fn golden(name: &str) -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../golden").join(name)
}

pub(super) struct Case {
    pub(super) name: String,
    pub(super) model: Model,
    pub(super) facts: Value,
    logits: Vec<f32>,
}

pub(super) fn cases(path: Instructions) -> Vec<Case> {
    let mut names: Vec<String> = std::fs::read_dir(golden("models"))
        .unwrap()
        .filter_map(|entry| {
            let name = entry.unwrap().file_name().into_string().unwrap();
            name.strip_suffix(".gguf").map(str::to_owned)
        })
        .filter(|name| !name.starts_with("bert"))
        .collect();
    names.sort();
    assert!(names.len() >= 29, "only {} golden models were found", names.len());
    let case = |name: String| {
        let read = |ending: &str| std::fs::read(golden(&format!("models/{name}{ending}"))).unwrap();
        let logits = read(".logits.f32");
        let logits = logits.as_chunks::<4>().0.iter().map(|word| f32::from_le_bytes(*word));
        Case {
            model: open_on(path, &format!("models/{name}.gguf"))
                .unwrap_or_else(|error| panic!("{name}: {error}")),
            facts: serde_json::from_slice(&read(".json")).unwrap(),
            logits: logits.collect(),
            name,
        }
    };
    names.into_iter().map(case).collect()
}

pub(super) fn ids(value: &Value) -> Vec<u32> {
    value.as_array().unwrap().iter().map(|id| id.as_u64().unwrap() as u32).collect()
}

fn argmax(logits: &[f32]) -> u32 {
    (0..).zip(logits).max_by(|a, b| a.1.total_cmp(b.1)).unwrap().0
}

fn open_model(name: &str) -> Result<Model, LoadError> {
    Model::open(&golden(name), 4096)
}

/// Opens a golden model on a path.
pub(super) fn open_on(path: Instructions, name: &str) -> Result<Model, LoadError> {
    let compute = ComputeSettings { path, ..ComputeSettings::default() };
    let (mut layer_memory, weights) = (LayerMemory::host(), Weights::Mapped);
    Model::open_in(&golden(name), 4096, &mut layer_memory, weights, compute, &mut |_, _| {})
}

/// A model with its cache and one sequence.
pub(super) struct Bench<'m> {
    model: &'m mut Model,
    cache: KvCache,
    work: Workspace,
    sequence: Sequence,
}

impl<'m> Bench<'m> {
    fn new(model: &'m mut Model, cache_type: CacheType) -> Self {
        let shape = model.shape();
        let settings = LoadSettings {
            context: shape.context_length,
            lanes: 1,
            chunk: 128,
            keys: cache_type,
            values: cache_type,
            ..LoadSettings::for_model(shape)
        };
        let settings =
            LoadSettings { lanes: 128, cache_tokens: Some(settings.context), ..settings };
        model.network.hold(&settings, 129, &mut LayerMemory::host()).unwrap();
        Self {
            cache: KvCache::new(&settings),
            work: Workspace::new(model.network.host(), model.shape(), 129, 128),
            model,
            sequence: Sequence::default(),
        }
    }

    /// Processes tokens and returns the logits of each.
    fn step(&mut self, tokens: &[u32]) -> &[f32] {
        assert!(self.cache.reserve(&mut self.sequence, tokens.len()));
        let run = Run { sequence: &self.sequence, tokens, wanted: Wanted::All };
        self.cache.copies().for_each(|copy| self.model.network.copy_page(copy));
        self.model.network.step(&[run], &mut self.work);
        self.cache.advance(&mut self.sequence, tokens);
        if !self.model.shape().encoder {
            self.model.network.logits(0..tokens.len(), &mut self.work);
        }
        &self.work.logits
    }
}

/// All logits of a prompt that is processed in steps of at most `chunk` tokens.
pub(super) fn run<'m>(
    model: &'m mut Model,
    ids: &[u32],
    chunk: usize,
    cache_type: CacheType,
) -> (Vec<f32>, Bench<'m>) {
    let mut bench = Bench::new(model, cache_type);
    let mut logits = Vec::new();
    for tokens in ids.chunks(chunk) {
        logits.extend_from_slice(bench.step(tokens));
    }
    (logits, bench)
}

/// With weights in blocks, activations are rounded to eight bits; the fixtures of these files contain the resulting
/// difference.
fn is_eight_bit(prompt: &Value) -> bool {
    prompt["int8_activation_drift"].is_number() || prompt["int8_activation_drift"].is_object()
}

#[test]
fn golden_logits_are_met_within_their_tolerance() {
    for Case { name, mut model, facts, logits } in one_of_each_class().into_iter().flat_map(cases) {
        let vocabulary = model.shape().vocabulary as usize;
        let mut drifts = Vec::new();
        for prompt in facts["prompts"].as_array().unwrap() {
            let (found, _) = run(&mut model, &ids(&prompt["ids"]), 128, CacheType::F32);
            let rows = ids(&prompt["logit_rows"]);
            for (position, row) in ids(&prompt["logit_positions"]).into_iter().zip(rows) {
                let found = &found[position as usize * vocabulary..][..vocabulary];
                let wanted = &logits[row as usize * vocabulary..][..vocabulary];
                let errors =
                    || found.iter().zip(wanted).map(|(found, wanted)| (found - wanted).abs());
                if is_eight_bit(prompt) || model.path().class() == Class::Bf16 {
                    let square: f64 = errors().map(|error| f64::from(error).powi(2)).sum();
                    let spread = prompt["logit_std"].as_f64().unwrap();
                    drifts.push((square / vocabulary as f64).sqrt() / spread);
                } else {
                    let worst = errors().fold(0.0, f32::max);
                    assert!(worst <= FLOAT_TOLERANCE, "{name} at {position}: off by {worst}");
                }
            }
        }
        drifts.sort_by(f64::total_cmp);
        // Two experts may be nearly equal and change places; therefore the median of the rows is compared.
        let judged =
            if name == "qwen3moe-q8_0" { drifts.get(drifts.len() / 2) } else { drifts.last() };
        let most = match model.path().class() {
            Class::Int8 => EIGHT_BIT_TOLERANCE,
            Class::Bf16 => BF16_TOLERANCE,
        };
        if let Some(drift) = judged {
            println!("{name} on {}: {drift:.5}", model.path());
            assert!(*drift <= most, "{name} on {}: drift {drift}", model.path());
        }
    }
}

/// The types of a model's cache.
fn cache_types(shape: &ModelShape) -> Vec<CacheType> {
    let fits = |kind: &CacheType| {
        let settings =
            LoadSettings { keys: *kind, values: *kind, ..LoadSettings::for_model(shape) };
        settings.check(shape).is_ok()
    };
    CacheType::ALL.into_iter().filter(fits).collect()
}

#[test]
fn greedy_tokens_equal_the_golden_ones() {
    for Case { name, mut model, facts, .. } in one_of_each_class().into_iter().flat_map(cases) {
        for prompt in facts["prompts"].as_array().unwrap() {
            let is_rounded = is_eight_bit(prompt) || model.path().class() == Class::Bf16;
            let allowed = if is_rounded { 0.3 } else { 0.05 };
            for cache_type in [CacheType::F32, CacheType::F16] {
                let start = ids(&prompt["ids"]);
                let vocabulary = model.shape().vocabulary as usize;
                let (logits, mut bench) = run(&mut model, &start, 64, cache_type);
                let mut token = argmax(&logits[logits.len() - vocabulary..]);
                let mut found = vec![token];
                while found.len() < 16 {
                    token = argmax(bench.step(&[token]));
                    found.push(token);
                }
                let wanted = ids(&prompt["greedy"]);
                // A difference counts unless the two likeliest tokens were nearly equal.
                let differs = found.iter().zip(&wanted).position(|(found, wanted)| found != wanted);
                let margins = &prompt["greedy_margins"];
                let excused = differs.is_none_or(|at| margins[at].as_f64().unwrap() < allowed);
                assert!(excused, "{name}, {} ids: {found:?} instead of {wanted:?}", start.len());
            }
        }
    }
}

/// Root mean square of the difference of two lists, relative to the spread of the second one.
fn drift(found: &[f32], wanted: &[f32]) -> f64 {
    let count = wanted.len() as f64;
    let mean = wanted.iter().map(|value| f64::from(*value)).sum::<f64>() / count;
    let spread = wanted.iter().map(|value| (f64::from(*value) - mean).powi(2)).sum::<f64>();
    let errors = found.iter().zip(wanted).map(|(a, b)| f64::from(a - b).powi(2)).sum::<f64>();
    (errors / spread).sqrt()
}

#[test]
fn an_eight_bit_cache_stays_close_to_a_whole_one() {
    for Case { name, mut model, facts, .. } in cases(Instructions::best()) {
        if !cache_types(model.shape()).contains(&CacheType::Q8_0) {
            continue;
        }
        let prompt = facts["prompts"].as_array().unwrap().last().unwrap();
        let ids = ids(&prompt["ids"]);
        let (whole, _) = run(&mut model, &ids, 64, CacheType::F32);
        let (rounded, _) = run(&mut model, &ids, 64, CacheType::Q8_0);
        assert!(whole != rounded, "{name}: the cache was not rounded");
        let vocabulary = model.shape().vocabulary as usize;
        let rows = whole.chunks(vocabulary).zip(rounded.chunks(vocabulary));
        let mut drifts: Vec<f64> = rows.map(|(whole, rounded)| drift(rounded, whole)).collect();
        drifts.sort_by(f64::total_cmp);
        // The median, because nearly equal experts may change places in single rows.
        let middle = drifts[drifts.len() / 2];
        assert!(middle < 2.0 * EIGHT_BIT_TOLERANCE, "{name}: drift {middle}");
    }
}

#[test]
fn any_cutting_of_a_prompt_gives_the_same_bits() {
    for Case { name, mut model, facts, .. } in one_of_each_class().into_iter().flat_map(cases) {
        let prompt = facts["prompts"].as_array().unwrap().last().unwrap();
        let ids = ids(&prompt["ids"]);
        for cache_type in cache_types(model.shape()) {
            let (whole, _) = run(&mut model, &ids, ids.len(), cache_type);
            for chunk in [1, 7, 33] {
                let (cut, _) = run(&mut model, &ids, chunk, cache_type);
                assert!(whole == cut, "{name}: chunks of {chunk} differ");
            }
        }
    }
}

/// The checks of the family and of the tokenizer refuse defects 40 to 52.
#[test]
fn files_that_do_not_fit_the_family_are_refused_with_a_reason() {
    let mut messages = Vec::new();
    for entry in std::fs::read_dir(golden("bad")).unwrap() {
        let path = entry.unwrap().path();
        let name = path.file_stem().unwrap().to_string_lossy().into_owned();
        let number = name.get(..2).and_then(|digits| digits.parse::<u32>().ok());
        if !number.is_some_and(|number| (1..=52).contains(&number)) {
            continue;
        }
        let Err(error) = Model::open(&path, 64) else { panic!("{name} was opened") };
        if matches!(number, Some(40..)) {
            messages.push(format!("{name}: {error}"));
        }
    }
    messages.sort();
    insta::assert_snapshot!(messages.join("\n"));
}

#[test]
fn the_undamaged_control_opens_and_a_file_with_a_foreign_tensor_does_not() {
    let path = golden("bad/00-valid-control.gguf");
    let mut model = Model::open(&path, 64).unwrap();
    let (logits, _) = run(&mut model, &[1, 5, 9], 3, CacheType::F16);
    assert!(logits.iter().all(|logit| logit.is_finite()));
    let bytes = std::fs::read(&path).unwrap();
    let name = b"blk.0.attn_norm.weight";
    let at = bytes.windows(name.len()).position(|window| window == name).unwrap();
    let mut renamed = bytes.clone();
    renamed[at..at + name.len()].copy_from_slice(b"blk.0.attn_nose.weight");
    let file = tempfile::NamedTempFile::new().unwrap();
    std::fs::write(file.path(), renamed).unwrap();
    assert!(matches!(Model::open(file.path(), 64), Err(LoadError::Tensor { .. })));
}

#[test]
fn golden_embeddings_are_met_within_their_tolerance() {
    for name in ["bert-mean", "bert-cls"] {
        let mut model = open_model(&format!("models/{name}.gguf")).unwrap();
        let pooling = model.words.pooling.unwrap();
        let read = |ending: &str| std::fs::read(golden(&format!("models/{name}{ending}"))).unwrap();
        let floats = |ending: &str| -> Vec<f32> {
            let bytes = read(ending);
            bytes.as_chunks::<4>().0.iter().map(|word| f32::from_le_bytes(*word)).collect()
        };
        let (hidden, embeddings) = (floats(".hidden.f32"), floats(".embeddings.f32"));
        let facts: Value = serde_json::from_slice(&read(".json")).unwrap();
        let width = model.shape().width as usize;
        for input in facts["inputs"].as_array().unwrap() {
            let mut bench = Bench::new(&mut model, CacheType::F32);
            bench.step(&ids(&input["ids"]));
            let states = &bench.work.wanted;
            let rows = ids(&input["hidden_rows"]);
            let wanted = &hidden[rows[0] as usize * width..rows[1] as usize * width];
            let off = |found: &[f32], wanted: &[f32]| {
                assert_eq!(found.len(), wanted.len());
                let errors = found.iter().zip(wanted).map(|(found, wanted)| (found - wanted).abs());
                errors.fold(0.0, f32::max)
            };
            assert!(off(states, wanted) <= 1e-4, "{name}: states off by {}", off(states, wanted));
            let row = input["embedding_row"]["l2_normalised"].as_u64().unwrap() as usize;
            let found = pooling.embedding(states, width, None);
            let error = off(&found, &embeddings[row * width..][..width]);
            assert!(error <= 1e-5, "{name}: embedding off by {error}");
        }
    }
}

#[test]
fn scores_of_classes_and_of_pairs_meet_independent_computations() {
    let scores = |model: &mut Model, ids: &[u32]| {
        let width = model.shape().width as usize;
        let mut bench = Bench::new(model, CacheType::F32);
        bench.step(ids);
        let first = bench.work.wanted[..width].to_vec();
        model.network.scores(&first)
    };
    let check = |found: &[f32], wanted: &Value| {
        let wanted = wanted.as_array().unwrap();
        assert_eq!(found.len(), wanted.len());
        for (found, wanted) in found.iter().zip(wanted) {
            let error = (f64::from(*found) - wanted.as_f64().unwrap()).abs();
            assert!(error <= 1e-3, "{found} for {wanted}");
        }
    };
    let mut classes = open_model("models/bert-classes.gguf").unwrap();
    assert_eq!(classes.words.pooling, Some(Pooling::Rank { scores: 3 }));
    let facts = std::fs::read(golden("models/bert-classes.json")).unwrap();
    let facts: Value = serde_json::from_slice(&facts).unwrap();
    for input in facts["inputs"].as_array().unwrap() {
        check(&scores(&mut classes, &ids(&input["ids"])), &input["scores"]);
    }
    let (facts, mut rank) = own("rank", 64);
    let pairs = facts["tokens"].as_array().unwrap();
    for (pair, wanted) in pairs.iter().zip(facts["scores"].as_array().unwrap()) {
        check(&scores(&mut rank, &ids(pair)), &serde_json::json!([wanted]));
    }
    assert_eq!(pairs.len(), 4);
}

#[test]
fn parts_of_a_split_model_give_the_bits_of_the_whole() {
    let mut whole = open_model("models/llama.gguf").unwrap();
    let mut parts = open_model("split/llama-00001-of-00003.gguf").unwrap();
    let prompt: Vec<u32> = (3..40).collect();
    let logits = |model| run(model, &prompt, 16, CacheType::F16).0;
    assert!(logits(&mut whole) == logits(&mut parts));
}

/// A fixture of golden/own: its facts, and the model opened for a context.
fn own(name: &str, context: u32) -> (Value, Model) {
    let facts = std::fs::read(golden(&format!("own/{name}.json"))).unwrap();
    let model = Model::open(&golden(&format!("own/{name}.gguf")), context).unwrap();
    (serde_json::from_slice(&facts).unwrap(), model)
}

#[test]
fn stretched_rotary_embeddings_meet_an_independent_computation() {
    for (name, contexts) in [("yarn", &[256][..]), ("longer", &[256, 32])] {
        for &context in contexts {
            let (facts, mut model) = own(name, context);
            let vocabulary = model.shape().vocabulary as usize;
            let prompt: Vec<u32> = ids(&facts["ids"]).into_iter().take(context as usize).collect();
            let (found, _) = run(&mut model, &prompt, 128, CacheType::F32);
            let rows = facts["logits"][context.to_string()].as_object().unwrap();
            assert_eq!(rows.len(), 3);
            for (position, wanted) in rows {
                let position: usize = position.parse().unwrap();
                let found = &found[position * vocabulary..][..vocabulary];
                for (found, wanted) in found.iter().zip(wanted.as_array().unwrap()) {
                    let error = (f64::from(*found) - wanted.as_f64().unwrap()).abs();
                    assert!(error <= 1e-3, "{name} {context} at {position}: off by {error}");
                }
            }
        }
    }
}

#[test]
fn a_decoder_pools_by_its_last_token_where_its_file_says_so() {
    let (facts, mut model) = own("last", 256);
    assert_eq!(model.words.pooling, Some(Pooling::Last));
    let (_, bench) = run(&mut model, &ids(&facts["ids"]), 128, CacheType::F32);
    let width = bench.model.shape().width as usize;
    let found = Pooling::Last.embedding(&bench.work.wanted, width, None);
    for (found, wanted) in found.iter().zip(facts["embedding"].as_array().unwrap()) {
        assert!((f64::from(*found) - wanted.as_f64().unwrap()).abs() <= 1e-5);
    }
}

#[test]
fn what_a_plan_says_of_cache_and_layers_is_what_every_family_takes() {
    let encoder = open_model("models/bert-mean.gguf").unwrap();
    let decoders = cases(Instructions::best()).into_iter().map(|case| (case.name, case.model));
    for (name, mut model) in decoders.chain([("bert-mean".to_owned(), encoder)]) {
        let shape = &model.shape().clone();
        for kind in CacheType::ALL {
            let settings = LoadSettings { keys: kind, lanes: 3, ..LoadSettings::for_model(shape) };
            if settings.check(shape).is_err() {
                continue;
            }
            let demand = Demand::of(shape, &settings, &Placement::in_host(shape.placeable()));
            let cache = demand.parts.iter().find(|part| part.kind == PartKind::Cache).unwrap();
            model.network.hold(&settings, 1, &mut LayerMemory::host()).unwrap();
            let taken = model.network.page_bytes() as u64;
            assert_eq!(cache.bytes.0, taken, "{name} with {}", kind.name());
        }
        let layers: u64 = shape.layer_weights.iter().map(|layer| layer.0).sum();
        assert_eq!(shape.layer_weights.len(), shape.placeable() as usize, "{name}");
        assert!(layers > 0 && layers < shape.file.0, "{name}: {layers} of {}", shape.file);
    }
}
