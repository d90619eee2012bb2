//! The memory that a load needs, part by part.

mod step_buffers;

use std::fmt;

use serde::{Deserialize, Serialize};
use thiserror::Error;

use crate::{Bytes, HOST, Placement};
pub use step_buffers::SPAN_TOKENS;
use step_buffers::step_buffers;

/// Most lanes of an instance.
const MAX_LANES: u32 = 64;
/// Most prompt tokens of a step.
const MAX_CHUNK: u32 = 4096;
/// Most threads of an instance.
const MAX_THREADS: u32 = 256;
/// Tokens of a page of the cache.
pub const PAGE_TOKENS: u32 = 32;
/// Resident memory of an engine process without the model: the program's data, the allocator, stacks and
/// thread pool. Measured on x86-64 Linux with the smallest demo model
/// (see docs/ARCHITECTURE.md, "Memory").
const PROCESS: Bytes = Bytes(3 << 19);

/// The sizes of a model that determine its memory; the family reads them from the file.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct ModelShape {
    /// Length of the model file.
    pub file: Bytes,
    /// Number of layers, each with keys and values.
    pub layers: u32,
    /// Stored bytes of each layer, in order; the rest of the file belongs to no layer.
    pub layer_weights: Vec<Bytes>,
    /// Number of query heads.
    pub heads: u32,
    /// Number of key and value heads.
    pub kv_heads: u32,
    /// Length of a key of a head.
    pub key_length: u32,
    /// Length of a value of a head.
    pub value_length: u32,
    /// Longest context that the model was trained for, in tokens.
    pub context_length: u32,
    /// Size of the vocabulary.
    pub vocabulary: u32,
    /// Length of a token's hidden state.
    pub width: u32,
    /// Inner width of the feed-forward part, or of an expert.
    pub feed_forward: u32,
    /// Number of experts of a layer; 0 if there are none.
    #[serde(default)]
    pub experts: u32,
    /// Number of experts of a token.
    #[serde(default)]
    pub experts_used: u32,
    /// Whether matrices of layers are stored as floats; then activations are floats too.
    pub floats: bool,
    /// Whether attention is bidirectional. Such a model computes embeddings only, processes a whole input at once, and has keys
    /// and values of one layer at a time.
    pub encoder: bool,
    /// Estimated memory of the tokenizer and template.
    pub tokenizer: Bytes,
}

/// Largest number of layers, and largest value of the other sizes: far beyond existing models, but small enough for products
/// of them not to overflow.
const MOST_LAYERS: u32 = 1 << 14;
const MOST_VALUES: u32 = 1 << 28;

impl ModelShape {
    /// Whether the sizes, which may come from outside, are possible.
    #[must_use]
    pub fn is_possible(&self) -> bool {
        let layers = [self.layers, u32::try_from(self.layer_weights.len()).unwrap_or(u32::MAX)];
        let values = [
            self.heads,
            self.kv_heads,
            self.key_length,
            self.value_length,
            self.context_length,
            self.vocabulary,
            self.width,
            self.feed_forward,
            self.experts,
            self.experts_used,
        ];
        layers.iter().all(|&layers| layers <= MOST_LAYERS)
            && values.iter().all(|&values| values <= MOST_VALUES)
    }

    /// Number of layers that can be placed.
    #[must_use]
    pub fn placeable(&self) -> u32 {
        if self.encoder {
            u32::try_from(self.layer_weights.len()).unwrap_or(u32::MAX)
        } else {
            self.layers
        }
    }
}

/// The type of cached keys and values.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum CacheType {
    /// Single precision, for comparisons.
    F32,
    /// Half precision.
    #[default]
    F16,
    /// Eight bits: blocks of 32 with a half-precision scale.
    Q8_0,
}

impl CacheType {
    /// Number of values of a block; rows must be whole blocks.
    pub const Q8_BLOCK: u32 = 32;

    /// All types, the widest first.
    pub const ALL: [Self; 3] = [Self::F32, Self::F16, Self::Q8_0];

    /// Bytes of a row of `values` cached values.
    #[must_use]
    pub const fn row_bytes(self, values: u64) -> u64 {
        match self {
            Self::F32 => values.saturating_mul(4),
            Self::F16 => values.saturating_mul(2),
            Self::Q8_0 => (values / Self::Q8_BLOCK as u64).saturating_mul(34),
        }
    }

    /// The type with a name.
    #[must_use]
    pub fn named(name: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|kind| kind.name() == name)
    }

    /// The name that operators use.
    #[must_use]
    pub const fn name(self) -> &'static str {
        match self {
            Self::F32 => "f32",
            Self::F16 => "f16",
            Self::Q8_0 => "q8_0",
        }
    }
}

/// How weights are in host memory.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Weights {
    /// A mapping of the file: the kernel may reclaim pages when memory is short, and reads them again when they are needed.
    #[default]
    Mapped,
    /// The same mapping, locked into memory.
    Resident,
}

/// Settings of a load.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct LoadSettings {
    /// Context of each lane in tokens.
    pub context: u32,
    /// Number of parallel sequences.
    pub lanes: u32,
    /// Tokens of the KV cache that all lanes share, at least the context of one lane; by default, each lane can fill its
    /// context. With fewer, the latest lane is paused while others need its pages.
    pub cache_tokens: Option<u32>,
    /// Most prompt tokens of a step.
    pub chunk: u32,
    /// Type of cached keys.
    pub keys: CacheType,
    /// Type of cached values.
    pub values: CacheType,
    /// How weights are in memory.
    pub weights: Weights,
    /// Number of copies of the weights in host memory, one for each of several memory nodes; 0 if the file is mapped instead.
    pub replicas: u32,
    /// Number of compute threads; by default one per processor.
    pub threads: Option<u32>,
}

/// The error of an invalid setting.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error("{setting} cannot be {given}: {reason}")]
pub struct SettingsError {
    /// Name of the setting.
    pub setting: &'static str,
    /// The value.
    pub given: String,
    /// The reason, and the valid values.
    pub reason: String,
}

/// Default chunk in tokens, for a model of a width. Larger chunks share the cost of unpacking weights between more tokens. Narrow
/// models are fast anyway, so they have small chunks, which need smaller buffers.
#[must_use]
pub const fn usual_chunk(width: u32) -> u32 {
    if width < 1024 { 128 } else { 256 }
}

impl LoadSettings {
    /// Default settings of a model: its own context up to 8,192 tokens, two lanes, chunks of [`usual_chunk`], a cache in half
    /// precision. An encoder has one lane, whole inputs and a cache in single precision.
    #[must_use]
    pub fn for_model(shape: &ModelShape) -> Self {
        let decoder = Self {
            context: shape.context_length.min(8192),
            lanes: 2,
            cache_tokens: None,
            chunk: usual_chunk(shape.width),
            keys: CacheType::default(),
            values: CacheType::default(),
            weights: Weights::default(),
            replicas: 0,
            threads: None,
        };
        if shape.encoder {
            let (context, whole) = (shape.context_length, CacheType::F32);
            return Self {
                context,
                lanes: 1,
                chunk: context,
                keys: whole,
                values: whole,
                ..decoder
            };
        }
        decoder
    }

    /// Checks the settings for a model.
    ///
    /// # Errors
    /// The first setting that is out of its range, with the range.
    pub fn check(&self, shape: &ModelShape) -> Result<(), SettingsError> {
        let range = |setting, given: u32, most: u32, why: &str| {
            if (1..=most).contains(&given) {
                return Ok(());
            }
            let reason = format!("from 1 to {most} {why}");
            Err(SettingsError { setting, given: given.to_string(), reason })
        };
        range(
            "context",
            self.context,
            shape.context_length,
            "tokens, the context length of the model",
        )?;
        range("lanes", self.lanes, MAX_LANES, "lanes")?;
        let all = self.lanes.saturating_mul(self.context);
        if let Some(given) = self.cache_tokens.filter(|given| !(self.context..=all).contains(given))
        {
            let reason = format!(
                "from {}, the context of one lane, to {all}, that of all lanes",
                self.context
            );
            return Err(SettingsError {
                setting: "cache-tokens",
                given: given.to_string(),
                reason,
            });
        }
        range("chunk", self.chunk, MAX_CHUNK, "tokens")?;
        range("threads", self.threads.unwrap_or(1), MAX_THREADS, "threads")?;
        for (kind, length) in [(self.keys, shape.key_length), (self.values, shape.value_length)] {
            if kind == CacheType::Q8_0 && !length.is_multiple_of(CacheType::Q8_BLOCK) {
                let reason = format!(
                    "its heads have {length} values, which is not a multiple of {}; use f16",
                    CacheType::Q8_BLOCK
                );
                return Err(SettingsError { setting: "cache", given: kind.name().into(), reason });
            }
        }
        Ok(())
    }

    /// Adapts the tokens of the shared KV cache to the context and the number of lanes: at least the context of one lane, and no
    /// limit if all lanes can fill their context.
    #[must_use]
    pub fn within(self) -> Self {
        let all = self.lanes.saturating_mul(self.context);
        let fewer = |tokens: u32| tokens.max(self.context);
        let cache_tokens = self.cache_tokens.map(fewer).filter(|&tokens| tokens < all);
        Self { cache_tokens, ..self }
    }

    /// Most tokens of a step: a chunk and one token of each lane, or the whole input of an encoder.
    #[must_use]
    pub fn step_tokens(&self, shape: &ModelShape) -> u32 {
        if shape.encoder { self.context } else { self.chunk + self.lanes }
    }

    /// Number of pages of the cache: enough for the whole context of all lanes, or for the shared tokens.
    #[must_use]
    pub fn pages(&self) -> u32 {
        let one = self.context.div_ceil(PAGE_TOKENS);
        let all = self.lanes.saturating_mul(one);
        self.cache_tokens
            .map_or(all, |tokens| tokens.div_ceil(PAGE_TOKENS).clamp(one, all.max(one)))
    }
}

/// The purpose of a part of the demand.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PartKind {
    /// The mapped model file; counted once for all instances of the file.
    Weights,
    /// A copy of the weights for each memory node, used by this instance only.
    Replicas,
    /// The KV cache.
    Cache,
    /// The buffers of a step.
    StepBuffers,
    /// The tokenizer and template.
    Tokenizer,
    /// The engine process itself.
    Process,
}

impl fmt::Display for PartKind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(match self {
            Self::Weights => "weights",
            Self::Replicas => "weights, replicated on each NUMA node",
            Self::Cache => "KV cache",
            Self::StepBuffers => "step buffers",
            Self::Tokenizer => "tokenizer and template",
            Self::Process => "process",
        })
    }
}

/// A part of a demand.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Part {
    /// The pool.
    pub pool: String,
    /// The purpose.
    pub kind: PartKind,
    /// The amount.
    pub bytes: Bytes,
}

/// The memory that a load needs.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Demand {
    /// The parts: those in host memory first, and weights first in each pool.
    pub parts: Vec<Part>,
}

/// The memory of an instance in one pool.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Amount {
    /// Memory shared with other instances of the file; only in host memory, where a file is mapped once.
    pub shared: Bytes,
    /// Memory of its own.
    pub private: Bytes,
}

impl Demand {
    /// The demand of a model with these settings and places of its layers.
    #[must_use]
    pub fn of(shape: &ModelShape, settings: &LoadSettings, placement: &Placement) -> Self {
        let layer_cache = layer_cache(shape, settings);
        // An encoder has keys and values of one layer at a time, during a step only.
        let host_cache = if shape.encoder { layer_cache } else { Bytes(0) };
        let mut held = vec![(HOST, shape.file, host_cache)];
        for (layer, pool) in placement.pools().enumerate() {
            let at = held.iter().position(|(name, ..)| *name == pool).unwrap_or_else(|| {
                held.push((pool, Bytes(0), Bytes(0)));
                held.len() - 1
            });
            if at > 0 {
                let stored = shape.layer_weights.get(layer).copied().unwrap_or_default();
                held[0].1 = held[0].1.saturating_sub(stored);
                held[at].1 += stored;
            }
            if !shape.encoder {
                held[at].2 += layer_cache;
            }
        }
        let mut parts = Vec::new();
        for (pool, weights, cache) in held {
            let mut part = |kind, bytes| parts.push(Part { pool: pool.to_owned(), kind, bytes });
            match u64::from(settings.replicas) {
                replicas if replicas > 0 && pool == HOST => {
                    part(PartKind::Replicas, Bytes(weights.0.saturating_mul(replicas)));
                }
                _ => part(PartKind::Weights, weights),
            }
            if cache > Bytes(0) {
                part(PartKind::Cache, cache);
            }
            if pool == HOST {
                part(PartKind::StepBuffers, step_buffers(shape, settings));
                part(PartKind::Tokenizer, shape.tokenizer);
                part(PartKind::Process, PROCESS);
            }
        }
        Self { parts }
    }

    /// The sum of all parts.
    #[must_use]
    pub fn total(&self) -> Bytes {
        self.parts.iter().map(|part| part.bytes).sum()
    }

    /// Its memory in a pool.
    #[must_use]
    pub fn amount(&self, pool: &str) -> Amount {
        let mut amount = Amount::default();
        for part in self.parts.iter().filter(|part| part.pool == pool) {
            if part.kind == PartKind::Weights && pool == HOST {
                amount.shared += part.bytes;
            } else {
                amount.private += part.bytes;
            }
        }
        amount
    }

    /// The memory of the instance alone, in all pools.
    #[must_use]
    pub fn private(&self) -> Bytes {
        self.total().saturating_sub(self.amount(HOST).shared)
    }
}

/// Keys and values of a layer: `pages x 32 x kv heads x (bytes of a key + bytes of a value)`.
pub(crate) fn layer_cache(shape: &ModelShape, settings: &LoadSettings) -> Bytes {
    let keys = settings.keys.row_bytes(u64::from(shape.key_length));
    let values = settings.values.row_bytes(u64::from(shape.value_length));
    let per_token = u64::from(shape.kv_heads).saturating_mul(keys + values);
    let tokens = u64::from(settings.pages()) * u64::from(PAGE_TOKENS);
    Bytes(tokens.saturating_mul(per_token))
}

#[cfg(test)]
mod tests;
