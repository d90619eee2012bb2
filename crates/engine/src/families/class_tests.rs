//! Agreement between the classes of paths, and routers of experts, which are not rounded.

use std::io::Write as _;

use deft_formats::gguf::{Header, TensorPlan, Value as Key, write};
use deft_formats::quant::TensorType;
use deft_kernels::Instructions;
use deft_planning::CacheType;
use half::f16;
use serde_json::Value;

use super::tests::{Case, cases, golden, ids, one_of_each_class, open_on, run};
use crate::model::Model;

/// Perplexity of the tokens of a text.
fn perplexity(model: &mut Model, ids: &[u32]) -> f64 {
    let vocabulary = model.shape().vocabulary as usize;
    let (logits, _) = run(model, ids, 64, CacheType::F16);
    let surprise = |(logits, next): (&[f32], &u32)| {
        let largest = logits.iter().copied().fold(f32::NEG_INFINITY, f32::max);
        let all: f64 = logits.iter().map(|logit| f64::from(logit - largest).exp()).sum();
        all.ln() - f64::from(logits[*next as usize] - largest)
    };
    let pairs = logits.chunks(vocabulary).zip(&ids[1..]);
    let sum: f64 = pairs.map(surprise).sum();
    (sum / (ids.len() - 1) as f64).exp()
}

/// Largest relative difference between the perplexities of both classes (docs/NUMERICS.md): of trained models, and of models
/// of random numbers.
const TRAINED: f64 = 0.01;
const RANDOM: f64 = 0.06;

#[test]
fn perplexity_is_the_same_in_both_classes_within_the_stated_bound() {
    let [vectors, tiles] = one_of_each_class();
    let mut worst: f64 = 0.0;
    let mut compare = |name: &str, models: [&mut Model; 2], ids: &[u32], most: f64| {
        let [first, second] = models.map(|model| perplexity(model, ids));
        assert!(first.is_finite() && first > 1.0, "{name}: {first}");
        let differs = (second / first - 1.0).abs();
        println!("{name}: {first:.4} and {second:.4}, {:.3} %", differs * 100.0);
        worst = worst.max(differs);
        assert!(differs < most, "{name}: {first} and {second}");
    };
    for (first, mut second) in cases(vectors).into_iter().zip(cases(tiles)) {
        let Case { name, mut model, facts, .. } = first;
        let prompt = facts["prompts"].as_array().unwrap().last().unwrap();
        compare(&name, [&mut model, &mut second.model], &ids(&prompt["ids"]), RANDOM);
    }
    for name in ["larkfen-desk", "larkfen-desk-mini"] {
        let facts = std::fs::read(golden(&format!("../demo/{name}/golden.json"))).unwrap();
        let facts: Value = serde_json::from_slice(&facts).unwrap();
        for kind in ["q8_0", "f16"] {
            let file = format!("../demo/{name}/{name}-{kind}.gguf");
            let [mut first, mut second] =
                [vectors, tiles].map(|path| open_on(path, &file).unwrap());
            for case in facts["cases"].as_array().unwrap() {
                let text = [ids(&case["prompt_ids"]), ids(&case["greedy_ids"])].concat();
                compare(&file, [&mut first, &mut second], &text, TRAINED);
            }
        }
    }
    assert!(worst > 0.0, "the classes differ");
}

/// Writes a copy of a model, with its routers stored in another type.
fn with_routers(
    name: &str,
    tensor_type: TensorType,
    store: impl Fn(&[f32]) -> Vec<u8>,
) -> tempfile::NamedTempFile {
    let bytes = std::fs::read(golden(name)).unwrap();
    let header = Header::read(std::io::Cursor::new(&bytes), bytes.len() as u64).unwrap();
    let is_router = |name: &str| name.ends_with("ffn_gate_inp.weight");
    let plans: Vec<TensorPlan> = header
        .tensors
        .iter()
        .map(|tensor| TensorPlan {
            name: tensor.name.clone(),
            dimensions: tensor.dimensions.clone(),
            tensor_type: if is_router(&tensor.name) { tensor_type } else { tensor.tensor_type },
        })
        .collect();
    let keys: Vec<(&str, Key)> =
        header.metadata.iter().map(|(key, value)| (key, value.clone())).collect();
    let mut file = tempfile::NamedTempFile::new().unwrap();
    let mut routers = 0;
    write(file.as_file_mut(), &keys, &plans, |plan, out| {
        let tensor = header.tensor(&plan.name).unwrap();
        let stored = &bytes[tensor.offset as usize..][..tensor.bytes as usize];
        if !is_router(&plan.name) {
            return out.write_all(stored);
        }
        routers += 1;
        let mut values = vec![0.0; tensor.values() as usize];
        tensor.tensor_type.decode(stored, &mut values);
        out.write_all(&store(&values))
    })
    .unwrap();
    assert!(routers > 0, "{name} has no router");
    file.flush().unwrap();
    file
}

/// Encodes blocks of 32 values in eight bits.
fn in_eight_bits(values: &[f32]) -> Vec<u8> {
    let block = |values: &[f32]| {
        let largest = values.iter().fold(0f32, |largest, value| largest.max(value.abs()));
        let scale = f16::from_f32(largest / 127.0);
        let quant = |value: &f32| (value / scale.to_f32()).round().clamp(-127.0, 127.0) as i8;
        let quants = values.iter().map(|value| quant(value).cast_unsigned());
        scale.to_le_bytes().into_iter().chain(quants.collect::<Vec<u8>>()).collect::<Vec<u8>>()
    };
    values.chunks(32).flat_map(block).collect()
}

fn in_halves(values: &[f32]) -> Vec<u8> {
    values.iter().flat_map(|value| f16::from_f32(*value).to_le_bytes()).collect()
}

#[test]
fn a_router_is_multiplied_in_floats_however_it_is_stored() {
    let name = "models/llama-moe.gguf";
    let tokens: Vec<u32> = (3..30).collect();
    let logits = |path: Instructions, file: &std::path::Path| {
        run(&mut open_on(path, file.to_str().unwrap()).unwrap(), &tokens, 9, CacheType::F32).0
    };
    type Store = fn(&[f32]) -> Vec<u8>;
    let ways: [(TensorType, Store); 2] =
        [(TensorType::F16, in_halves), (TensorType::Q8_0, in_eight_bits)];
    for (kind, store) in ways {
        let stored = with_routers(name, kind, store);
        // The same values in single precision.
        let whole = with_routers(name, TensorType::F32, |values| {
            let mut rounded = vec![0.0; values.len()];
            kind.decode(&store(values), &mut rounded);
            rounded.iter().flat_map(|value| value.to_le_bytes()).collect()
        });
        for path in one_of_each_class() {
            let (found, wanted) = (logits(path, stored.path()), logits(path, whole.path()));
            assert!(found == wanted, "a router in {kind} on {path}");
            let own = logits(path, &golden(name));
            assert!(found != own, "{kind} on {path}: values were rounded when they were stored");
        }
    }
}
