//! Seeded models of realistic shape for measurements. They say nothing meaningful; their numbers are
//! small enough that computing with them stays finite. They are made in `target/` and never committed.

use std::fs::File;
use std::io::{self, BufWriter, Write};
use std::path::{Path, PathBuf};

use anyhow::Context;
use deft_formats::gguf::{Array, TensorPlan, TextList, Value, write};
use deft_formats::quant::TensorType;
use rand_chacha::ChaCha8Rng;
use rand_chacha::rand_core::{Rng, SeedableRng};

use crate::steps::root;

/// Sizes of a model of the `llama` family.
#[derive(Debug, Clone, Copy)]
pub struct Sizes {
    pub name: &'static str,
    pub layers: u64,
    pub width: u64,
    pub heads: u64,
    pub kv_heads: u64,
    pub inner: u64,
    pub vocabulary: u64,
    pub context: u64,
    /// Numbers of experts of the inner width in a layer and of a token, if there are experts.
    pub experts: Option<(u64, u64)>,
}

/// From some megabytes to a gigabyte.
pub const SIZES: [Sizes; 4] = [
    Sizes {
        name: "larkfen-tiny",
        layers: 4,
        width: 256,
        heads: 4,
        kv_heads: 2,
        inner: 704,
        vocabulary: 8_000,
        context: 4096,
        experts: None,
    },
    Sizes {
        name: "larkfen-small",
        layers: 8,
        width: 512,
        heads: 8,
        kv_heads: 2,
        inner: 1408,
        vocabulary: 32_000,
        context: 4096,
        experts: None,
    },
    Sizes {
        name: "larkfen-half",
        layers: 24,
        width: 896,
        heads: 14,
        kv_heads: 2,
        inner: 4864,
        vocabulary: 150_000,
        context: 8192,
        experts: None,
    },
    Sizes {
        name: "larkfen-whole",
        layers: 22,
        width: 2048,
        heads: 32,
        kv_heads: 4,
        inner: 5632,
        vocabulary: 32_000,
        context: 8192,
        experts: None,
    },
];

/// So small that a step is hardly more than what a step costs by itself.
pub const LEAST: Sizes = Sizes {
    name: "larkfen-least",
    layers: 2,
    width: 64,
    heads: 2,
    kv_heads: 1,
    inner: 128,
    vocabulary: 320,
    context: 1024,
    experts: None,
};

/// Hardly more than a large vocabulary.
pub const WORDS: Sizes = Sizes { name: "larkfen-words", vocabulary: 250_000, ..LEAST };

/// About half a billion parameters, rows of whole blocks of 256.
pub const HALF_WIDE: Sizes = Sizes {
    name: "larkfen-half-wide",
    layers: 24,
    width: 1024,
    heads: 16,
    kv_heads: 2,
    inner: 4096,
    vocabulary: 150_000,
    context: 8192,
    experts: None,
};

/// As many small models are published: widths that are no multiple of 512, few heads of 64, large vocabularies.
const NARROW: [Sizes; 3] = [
    Sizes {
        name: "larkfen-narrow-896",
        width: 896,
        heads: 14,
        inner: 4864,
        vocabulary: 152_000,
        ..HALF_WIDE
    },
    Sizes {
        name: "larkfen-narrow-640",
        width: 640,
        heads: 10,
        inner: 2816,
        layers: 18,
        vocabulary: 152_000,
        ..HALF_WIDE
    },
    Sizes {
        name: "larkfen-narrow-512",
        width: 512,
        heads: 8,
        inner: 1152,
        layers: 12,
        vocabulary: 152_000,
        ..HALF_WIDE
    },
];

/// Models and how their weights are stored: what engines are measured with.
pub fn measured() -> impl Iterator<Item = (Sizes, Stored)> {
    let each = [HALF_WIDE, SIZES[3]].into_iter();
    let wide = each.flat_map(|sizes| Stored::MEASURED.map(|stored| (sizes, stored)));
    let mixed = NARROW.into_iter().map(|sizes| (sizes, Stored::MixedNarrow));
    wide.chain(mixed).chain([(NARROW[0], Stored::All(TensorType::Q8_0))])
}

/// Many experts of which a token uses few, and a model without experts that has as much to compute for a token.
pub const EXPERTS: [Sizes; 2] =
    [Sizes { name: "larkfen-herd", inner: 512, experts: Some((64, 8)), ..DENSE }, DENSE];

const DENSE: Sizes = Sizes {
    name: "larkfen-ox",
    layers: 12,
    width: 1024,
    heads: 16,
    kv_heads: 4,
    inner: 4096,
    vocabulary: 32_000,
    context: 8192,
    experts: None,
};

/// How the weights of a model are stored.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Stored {
    /// All in one type.
    All(TensorType),
    /// As published files mix them: most in `Q4_K`; the output, values and down projections, which need it
    /// most, in `Q6_K`.
    Mixed,
    /// The same where rows are no whole blocks of 256: most in `Q5_0`, what needs it in `Q8_0`, and down projections,
    /// whose rows are, in `Q6_K` or `Q4_K` by turns.
    MixedNarrow,
}

impl Stored {
    /// What each of the wide models is measured with.
    const MEASURED: [Self; 6] = [
        Self::All(TensorType::Q8_0),
        Self::All(TensorType::Q4_K),
        Self::All(TensorType::Q5_0),
        Self::All(TensorType::Q6_K),
        Self::All(TensorType::Q4_0),
        Self::Mixed,
    ];

    /// Its name in a file's.
    pub fn name(self) -> String {
        match self {
            Self::All(tensor_type) => tensor_type.name().to_lowercase(),
            Self::Mixed => "mixed".to_owned(),
            Self::MixedNarrow => "mixed-narrow".to_owned(),
        }
    }

    fn of(self, plan: &TensorPlan) -> TensorType {
        const FINER: [&str; 3] = ["token_embd", "attn_v", "ffn_down"];
        let tensor = &plan.name;
        match self {
            Self::All(tensor_type) => tensor_type,
            Self::Mixed if FINER.iter().any(|part| tensor.contains(part)) => TensorType::Q6_K,
            Self::Mixed => TensorType::Q4_K,
            Self::MixedNarrow
                if !tensor.contains("ffn_down") || !plan.dimensions[0].is_multiple_of(256) =>
            {
                let is_finer = FINER.iter().any(|part| tensor.contains(part));
                if is_finer { TensorType::Q8_0 } else { TensorType::Q5_0 }
            }
            Self::MixedNarrow => {
                let layer = tensor.split('.').nth(1).and_then(|text| text.parse::<u32>().ok());
                let is_even = layer.is_some_and(|layer| layer.is_multiple_of(2));
                if is_even { TensorType::Q6_K } else { TensorType::Q4_K }
            }
        }
    }
}

/// The model's file in `Q8_0`, made where it is not there.
pub fn model(sizes: Sizes) -> anyhow::Result<PathBuf> {
    stored(sizes, Stored::All(TensorType::Q8_0))
}

/// The model's file, made where it is not there.
pub fn stored(sizes: Sizes, stored: Stored) -> anyhow::Result<PathBuf> {
    let folder = root().join("target/synthetic");
    std::fs::create_dir_all(&folder)?;
    let path = folder.join(format!("{}-{}.gguf", sizes.name, stored.name()));
    if !path.exists() {
        let unfinished = path.with_extension("unfinished");
        make(sizes, stored, &unfinished).with_context(|| unfinished.display().to_string())?;
        std::fs::rename(&unfinished, &path)?;
    }
    Ok(path)
}

fn make(sizes: Sizes, stored: Stored, path: &Path) -> io::Result<()> {
    let mut random = ChaCha8Rng::seed_from_u64(2_601);
    let out = BufWriter::with_capacity(1 << 20, File::create(path)?);
    let mut tensors = tensors(sizes);
    let is_stored_so = |tensor: &&mut TensorPlan| {
        tensor.dimensions.len() > 1 && !tensor.name.contains("ffn_gate_inp")
    };
    for tensor in tensors.iter_mut().filter(is_stored_so) {
        tensor.tensor_type = stored.of(tensor);
    }
    write(out, &metadata(sizes), &tensors, |tensor, out| fill(tensor, &mut random, out))
}

fn metadata(sizes: Sizes) -> Vec<(&'static str, Value)> {
    let count = |value: u64| Value::Unsigned(value);
    let text = |text: &str| Value::String(text.to_owned());
    let tokens = sizes.vocabulary;
    let special = ["<unk>", "<s>", "</s>"].map(str::to_owned).into_iter();
    let texts = special.chain((3..tokens).map(|id| format!("seed{id}"))).collect::<TextList>();
    let kinds = [2, 3, 3].into_iter().chain((3..tokens).map(|_| 1)).collect();
    #[expect(clippy::cast_precision_loss, reason = "ids are small")]
    let scores = (0..tokens).map(|id| -(id as f64)).collect();
    let experts = sizes.experts.map(|(experts, used)| {
        [("llama.expert_count", count(experts)), ("llama.expert_used_count", count(used))]
    });
    let all = vec![
        ("general.architecture", text("llama")),
        ("general.name", text(sizes.name)),
        ("llama.block_count", count(sizes.layers)),
        ("llama.context_length", count(sizes.context)),
        ("llama.embedding_length", count(sizes.width)),
        ("llama.feed_forward_length", count(sizes.inner)),
        ("llama.attention.head_count", count(sizes.heads)),
        ("llama.attention.head_count_kv", count(sizes.kv_heads)),
        ("llama.attention.layer_norm_rms_epsilon", Value::Float(1e-5)),
        ("tokenizer.ggml.model", text("llama")),
        ("tokenizer.ggml.tokens", Value::Array(Array::Strings(texts))),
        ("tokenizer.ggml.scores", Value::Array(Array::Floats(scores))),
        ("tokenizer.ggml.token_type", Value::Array(Array::Integers(kinds))),
        ("tokenizer.ggml.bos_token_id", count(1)),
        ("tokenizer.ggml.eos_token_id", count(2)),
    ];
    all.into_iter().chain(experts.into_iter().flatten()).collect()
}

fn tensors(sizes: Sizes) -> Vec<TensorPlan> {
    let Sizes { width, inner, vocabulary, .. } = sizes;
    let head = width / sizes.heads;
    let keys = sizes.kv_heads * head;
    let matrix = |name: String, columns: u64, rows: u64| TensorPlan {
        name,
        dimensions: vec![columns, rows],
        tensor_type: TensorType::Q8_0,
    };
    let vector =
        |name: String| TensorPlan { name, dimensions: vec![width], tensor_type: TensorType::F32 };
    let mut tensors = vec![
        matrix("token_embd.weight".to_owned(), width, vocabulary),
        vector("output_norm.weight".to_owned()),
    ];
    for layer in 0..sizes.layers {
        let part = |name: &str| format!("blk.{layer}.{name}.weight");
        tensors.extend([
            vector(part("attn_norm")),
            matrix(part("attn_q"), width, width),
            matrix(part("attn_k"), width, keys),
            matrix(part("attn_v"), width, keys),
            matrix(part("attn_output"), width, width),
            vector(part("ffn_norm")),
        ]);
        let Some((count, _)) = sizes.experts else {
            tensors.extend([
                matrix(part("ffn_gate"), width, inner),
                matrix(part("ffn_up"), width, inner),
                matrix(part("ffn_down"), inner, width),
            ]);
            continue;
        };
        let all = |name: &str, columns: u64, rows: u64| TensorPlan {
            dimensions: vec![columns, rows, count],
            ..matrix(part(name), columns, rows)
        };
        tensors.extend([
            TensorPlan {
                tensor_type: TensorType::F32,
                ..matrix(part("ffn_gate_inp"), width, count)
            },
            all("ffn_gate_exps", width, inner),
            all("ffn_up_exps", width, inner),
            all("ffn_down_exps", inner, width),
        ]);
    }
    tensors
}

/// Norms near one, routers between minus and plus one, and blocks of random quants with a small scale.
fn fill(tensor: &TensorPlan, random: &mut ChaCha8Rng, out: &mut dyn Write) -> io::Result<()> {
    /// 2^-12 in half precision.
    const SCALE: [u8; 2] = [0x00, 0x0C];
    if tensor.tensor_type == TensorType::F32 && tensor.dimensions.len() > 1 {
        return (0..tensor.dimensions.iter().product()).try_for_each(|_| {
            #[expect(clippy::cast_precision_loss, reason = "any number will do")]
            let value = random.next_u32() as f32 / (1_u32 << 31) as f32 - 1.0;
            out.write_all(&value.to_le_bytes())
        });
    }
    if tensor.tensor_type == TensorType::F32 {
        return (0..tensor.dimensions[0]).try_for_each(|_| out.write_all(&1f32.to_le_bytes()));
    }
    let kind = tensor.tensor_type;
    let mut block = vec![0; kind.block_bytes()];
    // Offsets of common scales and factors of minima in a block.
    let scales: &[usize] = match kind {
        TensorType::Q4_K => &[0, 2],
        TensorType::Q6_K => &[208],
        _ => &[0],
    };
    for _ in 0..tensor.bytes() / block.len() as u64 {
        random.fill_bytes(&mut block);
        scales.iter().for_each(|&at| block[at..at + 2].copy_from_slice(&SCALE));
        out.write_all(&block)?;
    }
    Ok(())
}
