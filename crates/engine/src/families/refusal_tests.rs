//! Files that are complete but cannot be run: each is refused with a reason. Unusual but valid files are opened.

use std::io::Cursor;

use deft_formats::gguf::{Array, Header, TensorPlan, Value, write};
use deft_formats::quant::TensorType;

use super::*;

const WIDTH: u64 = 16;
const VOCABULARY: u64 = 8;
const INNER: u64 = 24;

/// The keys and tensors of a tiny model, which a test changes before it writes the file.
struct Draft {
    family: &'static str,
    keys: Vec<(String, Value)>,
    tensors: Vec<TensorPlan>,
}

fn tensor(name: &str, dimensions: &[u64]) -> TensorPlan {
    let dimensions = dimensions.to_vec();
    TensorPlan { name: name.to_owned(), dimensions, tensor_type: TensorType::F32 }
}

impl Draft {
    /// A model of one layer: two heads of eight values, which share one head of keys and values.
    fn new(family: &'static str) -> Self {
        let tokens = (0..VOCABULARY).map(|id| format!("<{id}>")).collect();
        let mut draft = Self { family, keys: Vec::new(), tensors: Vec::new() };
        draft.keys.push(("general.architecture".to_owned(), Value::String(family.to_owned())));
        draft.keys.push(("tokenizer.ggml.tokens".to_owned(), Value::Array(Array::Strings(tokens))));
        for (key, value) in [
            ("block_count", 1),
            ("context_length", 64),
            ("embedding_length", WIDTH),
            ("feed_forward_length", INNER),
            ("attention.head_count", 2),
            ("attention.head_count_kv", 1),
        ] {
            draft = draft.with(key, Value::Unsigned(value));
        }
        draft = draft.with("attention.layer_norm_rms_epsilon", Value::Float(1e-5));
        draft.tensors = vec![
            tensor("token_embd.weight", &[WIDTH, VOCABULARY]),
            tensor("output_norm.weight", &[WIDTH]),
            tensor("blk.0.attn_norm.weight", &[WIDTH]),
            tensor("blk.0.attn_q.weight", &[WIDTH, 16]),
            tensor("blk.0.attn_k.weight", &[WIDTH, 8]),
            tensor("blk.0.attn_v.weight", &[WIDTH, 8]),
            tensor("blk.0.attn_output.weight", &[16, WIDTH]),
            tensor("blk.0.ffn_norm.weight", &[WIDTH]),
            tensor("blk.0.ffn_gate.weight", &[WIDTH, INNER]),
            tensor("blk.0.ffn_up.weight", &[WIDTH, INNER]),
            tensor("blk.0.ffn_down.weight", &[INNER, WIDTH]),
        ];
        draft
    }

    /// Sets a key of the family.
    fn with(mut self, key: &str, value: Value) -> Self {
        let key = format!("{}.{key}", self.family);
        self.keys.retain(|(known, _)| *known != key);
        self.keys.push((key, value));
        self
    }

    fn and(mut self, tensors: &[(&str, &[u64])]) -> Self {
        self.tensors.extend(tensors.iter().map(|(name, dimensions)| tensor(name, dimensions)));
        self
    }

    fn without(mut self, part: &str) -> Self {
        self.tensors.retain(|tensor| !tensor.name.contains(part));
        self.keys.retain(|(key, _)| !key.ends_with(part));
        self
    }

    fn header(&self) -> Header {
        let keys: Vec<(&str, Value)> =
            self.keys.iter().map(|(key, value)| (key.as_str(), value.clone())).collect();
        let mut file = Vec::new();
        write(&mut file, &keys, &self.tensors, |tensor, out| {
            out.write_all(&vec![0; usize::try_from(tensor.bytes()).unwrap()])
        })
        .unwrap();
        Header::read(Cursor::new(&file), file.len() as u64).unwrap()
    }

    fn outline(&self) -> Result<Outline, LoadError> {
        outline(&self.header())
    }

    fn refusal(&self) -> String {
        match self.outline() {
            Ok(_) => "it was not refused".to_owned(),
            Err(error) => error.to_string(),
        }
    }
}

fn text(text: &str) -> Value {
    Value::String(text.to_owned())
}

#[test]
fn the_drafts_themselves_are_sound() {
    let outline = Draft::new("llama").outline().unwrap();
    assert_eq!((outline.shape.heads, outline.shape.kv_heads, outline.shape.key_length), (2, 1, 8));
    assert_eq!((outline.layers, outline.window), (1, None));
    let norms: [(&str, &[u64]); 2] =
        [("blk.0.attn_q_norm.weight", &[8]), ("blk.0.attn_k_norm.weight", &[8])];
    Draft::new("qwen3").and(&norms).outline().unwrap();
}

#[test]
fn keys_that_cannot_be_are_named_with_the_reason() {
    let count = Value::Unsigned;
    let cases = [
        ("no layers", Draft::new("llama").with("block_count", count(0))),
        ("no heads", Draft::new("llama").with("attention.head_count", count(0))),
        ("heads do not share", Draft::new("llama").with("attention.head_count_kv", count(3))),
        (
            "a width that is not divided",
            Draft::new("llama").with("attention.head_count", count(3)).without("head_count_kv"),
        ),
        ("a missing key", Draft::new("llama").without("embedding_length")),
        ("a key of another kind", Draft::new("llama").with("context_length", text("long"))),
        ("an odd rotation", Draft::new("llama").with("rope.dimension_count", count(7))),
        (
            "a rotation wider than a head",
            Draft::new("llama").with("rope.dimension_count", count(10)),
        ),
        ("a base below zero", Draft::new("llama").with("rope.freq_base", Value::Float(-1.0))),
        ("an unknown scaling", Draft::new("llama").with("rope.scaling.type", text("spiral"))),
        (
            "factors of another family",
            Draft::new("llama").with("rope.scaling.type", text("longrope")),
        ),
        ("yarn without a factor", Draft::new("llama").with("rope.scaling.type", text("yarn"))),
        (
            "more experts used than there are",
            Draft::new("llama").with("expert_count", count(2)).with("expert_used_count", count(3)),
        ),
        ("no window", Draft::new("gemma2")),
        ("no experts", Draft::new("qwen3moe").with("expert_count", count(0))),
        ("another family", Draft::new("larkfen")),
    ];
    let errors: Vec<String> =
        cases.iter().map(|(case, draft)| format!("{case}: {}", draft.refusal())).collect();
    insta::assert_snapshot!(errors.join("\n"));
}

#[test]
fn tensors_that_are_missing_wrong_or_foreign_are_named() {
    let wrong_type = {
        let mut draft = Draft::new("llama");
        draft.tensors[1].tensor_type = TensorType::F16;
        draft
    };
    let cases = [
        ("missing", Draft::new("llama").without("ffn_gate")),
        (
            "another form",
            Draft::new("llama")
                .without("attn_k.weight")
                .and(&[("blk.0.attn_k.weight", &[WIDTH, 16])]),
        ),
        ("another type", wrong_type),
        ("foreign", Draft::new("llama").and(&[("blk.0.attn_gate.weight", &[WIDTH, WIDTH])])),
        ("beyond the last layer", Draft::new("llama").and(&[("blk.1.attn_norm.weight", &[WIDTH])])),
        ("a bias that the family must have", Draft::new("qwen2")),
        ("long factors without short ones", {
            let fused: [(&str, &[u64]); 2] = [
                ("blk.0.attn_qkv.weight", &[WIDTH, 32]),
                ("blk.0.ffn_up.weight", &[WIDTH, 2 * INNER]),
            ];
            let plain = Draft::new("phi3")
                .without("attn_q")
                .without("attn_k")
                .without("attn_v")
                .without("ffn_gate")
                .without("ffn_up");
            plain.and(&fused).and(&[("rope_factors_long.weight", &[4])])
        }),
    ];
    let errors: Vec<String> =
        cases.iter().map(|(case, draft)| format!("{case}: {}", draft.refusal())).collect();
    insta::assert_snapshot!(errors.join("\n"));
}

/// Unusual but valid contents of published files.
#[test]
fn files_that_only_look_odd_are_opened() {
    // Biases in a family that does not require them.
    let biases: [(&str, &[u64]); 3] =
        [("blk.0.attn_q.bias", &[16]), ("blk.0.attn_k.bias", &[8]), ("blk.0.attn_v.bias", &[8])];
    Draft::new("llama").and(&biases).outline().unwrap();
    // A window of 0, as in files of models without a window.
    let phi = |window: u64| {
        let fused: [(&str, &[u64]); 2] =
            [("blk.0.attn_qkv.weight", &[WIDTH, 32]), ("blk.0.ffn_up.weight", &[WIDTH, 2 * INNER])];
        let draft = ["attn_q", "attn_k", "attn_v", "ffn_gate", "ffn_up"]
            .iter()
            .fold(Draft::new("phi3"), |draft, part| draft.without(part));
        let draft = draft.and(&fused).with("attention.sliding_window", Value::Unsigned(window));
        draft.outline().unwrap().window
    };
    assert_eq!((phi(0), phi(64), phi(16)), (None, None, Some((1, 16))));
    // Files of the first versions of the format have a factor only.
    for (key, value) in [("rope.scale_linear", 4.0), ("rope.scaling.factor", 2.0)] {
        Draft::new("llama").with(key, Value::Float(value)).outline().unwrap();
    }
    // Keys and values of different length.
    let draft = Draft::new("llama").without("attn_v").without("attn_output");
    let apart: [(&str, &[u64]); 2] =
        [("blk.0.attn_v.weight", &[WIDTH, 4]), ("blk.0.attn_output.weight", &[8, WIDTH])];
    let outline = draft
        .and(&apart)
        .with("attention.key_length", Value::Unsigned(8))
        .with("attention.value_length", Value::Unsigned(4))
        .outline()
        .unwrap();
    assert_eq!((outline.shape.key_length, outline.shape.value_length), (8, 4));
}

#[test]
fn ways_of_pooling_are_read_or_refused() {
    let pooling = |kind: Option<u64>| {
        let draft = Draft::new("llama");
        let draft = match kind {
            Some(kind) => draft.with("pooling_type", Value::Unsigned(kind)),
            None => draft,
        };
        Pooling::of(&draft.header()).map_err(|error| error.to_string())
    };
    assert_eq!(pooling(None), Ok(None));
    assert_eq!(pooling(Some(0)), Ok(None));
    assert_eq!(pooling(Some(1)), Ok(Some(Pooling::Mean)));
    assert_eq!(pooling(Some(2)), Ok(Some(Pooling::First)));
    assert_eq!(pooling(Some(3)), Ok(Some(Pooling::Last)));
    assert!(pooling(Some(4)).unwrap_err().contains("`llama.pooling_type` is 4"));
    assert_eq!(Pooling::of(&Draft::new("bert").header()).unwrap(), Some(Pooling::Mean));
    let rank = Draft::new("bert").with("pooling_type", Value::Unsigned(4));
    assert_eq!(Pooling::of(&rank.header()).unwrap(), Some(Pooling::Rank { scores: 1 }));
    let other = Draft::new("bert").with("pooling_type", Value::Unsigned(5));
    assert!(Pooling::of(&other.header()).unwrap_err().to_string().contains("0 to 4"));
}
