//! What a load needs, part by part.

use std::fmt;

use serde::{Deserialize, Serialize};
use thiserror::Error;

use crate::{Bytes, HOST, Placement};

/// Most lanes an instance may have.
const MAX_LANES: u32 = 64;
/// Most prompt tokens a step may take in.
const MAX_CHUNK: u32 = 4096;
/// Most threads of an instance.
const MAX_THREADS: u32 = 256;
/// Tokens of a page of the cache.
pub const PAGE_TOKENS: u32 = 32;
/// Resident memory of an engine process beside what its model needs: the program's own data, the
/// allocator, stacks and thread pool. Measured on x86-64 Linux with the smallest demo model
/// (see docs/ARCHITECTURE.md, "Memory").
const PROCESS: Bytes = Bytes(3 << 19);

/// The sizes of a model that decide what it needs, as its family reads them from the file.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct ModelShape {
    /// Length of the model file.
    pub file: Bytes,
    /// Layers that keep keys and values.
    pub layers: u32,
    /// Stored bytes of each layer, in their order; the rest of the file belongs to no layer.
    pub layer_weights: Vec<Bytes>,
    /// Query heads.
    pub heads: u32,
    /// Key and value heads.
    pub kv_heads: u32,
    /// Values in one key of one head.
    pub key_length: u32,
    /// Values in one value of one head.
    pub value_length: u32,
    /// Longest context the model was made for, in tokens.
    pub context_length: u32,
    /// Entries of the vocabulary.
    pub vocabulary: u32,
    /// Values in one token's hidden state.
    pub width: u32,
    /// Values in the middle of the feed-forward part, or of one expert.
    pub feed_forward: u32,
    /// Experts of a layer; 0 where there are none.
    #[serde(default)]
    pub experts: u32,
    /// Of these, those that a token is computed with.
    #[serde(default)]
    pub experts_used: u32,
    /// Whether matrices of layers are stored as floats: activations then stay floats as well.
    pub floats: bool,
    /// Whether tokens see those after them as well: such a model makes embeddings only, takes in a
    /// whole input at once, and keeps keys and values of one layer at a time.
    pub encoder: bool,
    /// Estimated memory of tokenizer and template.
    pub tokenizer: Bytes,
}

/// Most layers of a model, and most values in any other of its sizes: far beyond all that is made, and few enough
/// that whatever they are multiplied with stays countable.
const MOST_LAYERS: u32 = 1 << 14;
const MOST_VALUES: u32 = 1 << 28;

impl ModelShape {
    /// Whether a model can have such sizes. They may come from outside.
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

    /// Layers that can be placed.
    #[must_use]
    pub fn placeable(&self) -> u32 {
        if self.encoder {
            u32::try_from(self.layer_weights.len()).unwrap_or(u32::MAX)
        } else {
            self.layers
        }
    }
}

/// Precision of cached keys and values.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum CacheType {
    /// Single precision; for comparisons.
    F32,
    /// Half precision.
    #[default]
    F16,
    /// Eight bits, in blocks of 32 with a half-precision scale.
    Q8_0,
}

impl CacheType {
    /// Values of a block; rows must be whole blocks.
    pub const Q8_BLOCK: u32 = 32;

    /// All types, the widest first.
    pub const ALL: [Self; 3] = [Self::F32, Self::F16, Self::Q8_0];

    /// Bytes of a row of cached values.
    #[must_use]
    pub const fn row_bytes(self, values: u64) -> u64 {
        match self {
            Self::F32 => values.saturating_mul(4),
            Self::F16 => values.saturating_mul(2),
            Self::Q8_0 => (values / Self::Q8_BLOCK as u64).saturating_mul(34),
        }
    }

    /// The type of that name.
    #[must_use]
    pub fn named(name: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|kind| kind.name() == name)
    }

    /// Name as written by operators.
    #[must_use]
    pub const fn name(self) -> &'static str {
        match self {
            Self::F32 => "f32",
            Self::F16 => "f16",
            Self::Q8_0 => "q8_0",
        }
    }
}

/// How weights in host memory are held.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Weights {
    /// A mapping of the file: the kernel may take pages back when memory is short, and reads them
    /// again when they are needed.
    #[default]
    Mapped,
    /// The same mapping, locked into memory.
    Resident,
}

/// How an instance is loaded.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct LoadSettings {
    /// Tokens of context in every lane.
    pub context: u32,
    /// Parallel sequences.
    pub lanes: u32,
    /// Tokens that all lanes together can hold, at least one lane's context; none means that every
    /// lane can fill its own. With less, the youngest lane is paused while the others need its room.
    pub cache_tokens: Option<u32>,
    /// Most prompt tokens one step takes in.
    pub chunk: u32,
    /// Precision of cached keys.
    pub keys: CacheType,
    /// Precision of cached values.
    pub values: CacheType,
    /// How weights are held.
    pub weights: Weights,
    /// Copies of the weights in host memory, one for each of several memory nodes; 0 where the file is mapped instead.
    pub replicas: u32,
    /// Threads that compute; none means one for each processor.
    pub threads: Option<u32>,
}

/// A setting that cannot be used.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error("{setting} cannot be {given}: {reason}")]
pub struct SettingsError {
    /// Name of the setting.
    pub setting: &'static str,
    /// The value given.
    pub given: String,
    /// Why not, and what is.
    pub reason: String,
}

/// Tokens of a chunk where none are named, for a model of such a width. The more there are, the more tokens
/// share what weights that are taken apart cost; of narrow models, which take prompts in fast anyhow, the
/// working space would be more than that is worth.
#[must_use]
pub const fn usual_chunk(width: u32) -> u32 {
    if width < 1024 { 128 } else { 256 }
}

impl LoadSettings {
    /// Settings for a model where the operator named none: its own context up to 8,192 tokens, two
    /// lanes, chunks of [`usual_chunk`], half-precision cache; an encoder one lane with whole inputs,
    /// exactly.
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

    /// Checks the settings against the model.
    ///
    /// # Errors
    /// Names the first setting that is out of its range, with the range.
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

    /// The same where context or lanes became fewer: what all lanes together hold is no more than that.
    #[must_use]
    pub fn within(self) -> Self {
        let all = self.lanes.saturating_mul(self.context);
        let fewer = |tokens: u32| tokens.max(self.context);
        let cache_tokens = self.cache_tokens.map(fewer).filter(|&tokens| tokens < all);
        Self { cache_tokens, ..self }
    }

    /// Most tokens of a step: a chunk and one token of each lane, or an encoder's whole input.
    #[must_use]
    pub fn step_tokens(&self, shape: &ModelShape) -> u32 {
        if shape.encoder { self.context } else { self.chunk + self.lanes }
    }

    /// Pages of the cache: enough for all lanes to fill their context, or for what they share.
    #[must_use]
    pub fn pages(&self) -> u32 {
        let one = self.context.div_ceil(PAGE_TOKENS);
        let all = self.lanes.saturating_mul(one);
        self.cache_tokens
            .map_or(all, |tokens| tokens.div_ceil(PAGE_TOKENS).clamp(one, all.max(one)))
    }
}

/// What a part of the demand is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PartKind {
    /// The model file, mapped; counted once for all instances of the file.
    Weights,
    /// A copy of the weights for each memory node, which no other instance uses.
    Replicas,
    /// Cached keys and values.
    Cache,
    /// Working space of a step.
    StepBuffers,
    /// Tokenizer and template.
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

/// One part of a demand.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Part {
    /// Where.
    pub pool: String,
    /// What for.
    pub kind: PartKind,
    /// How much.
    pub bytes: Bytes,
}

/// What a load needs.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Demand {
    /// The parts: those in host memory first, weights first in each pool.
    pub parts: Vec<Part>,
}

/// What an instance holds of one pool.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Amount {
    /// Shared with other instances of the file: only in host memory, where a file is mapped once.
    pub shared: Bytes,
    /// Its own.
    pub private: Bytes,
}

impl Demand {
    /// The demand of a model under settings, with its layers in these places.
    #[must_use]
    pub fn of(shape: &ModelShape, settings: &LoadSettings, placement: &Placement) -> Self {
        let layer_cache = layer_cache(shape, settings);
        // An encoder keeps keys and values of one layer at a time, and not beyond a step.
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

    /// All parts together.
    #[must_use]
    pub fn total(&self) -> Bytes {
        self.parts.iter().map(|part| part.bytes).sum()
    }

    /// What it holds of a pool.
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

    /// What an instance needs for itself, in all pools.
    #[must_use]
    pub fn private(&self) -> Bytes {
        self.total().saturating_sub(self.amount(HOST).shared)
    }
}

/// Of one layer: `pages x 32 x kv heads x (bytes of a key + bytes of a value)`.
pub(crate) fn layer_cache(shape: &ModelShape, settings: &LoadSettings) -> Bytes {
    let keys = settings.keys.row_bytes(u64::from(shape.key_length));
    let values = settings.values.row_bytes(u64::from(shape.value_length));
    let per_token = u64::from(shape.kv_heads).saturating_mul(keys + values);
    let tokens = u64::from(settings.pages()) * u64::from(PAGE_TOKENS);
    Bytes(tokens.saturating_mul(per_token))
}

/// Rows that a thread multiplies at once, at most: with tiles; without them 16.
const ROWS: u64 = 32;
/// Rows whose sums are put aside where inputs are wider than [`SUMMED_AT_ONCE`], at most; sixteen sums each.
const ROWS_ASIDE: u64 = 8;
/// Inputs up to this width are summed without anything being put aside.
const SUMMED_AT_ONCE: u64 = 6 * 512;
/// Threads that are planned for where no number is given.
const USUAL_THREADS: u32 = 4;

/// Tokens of a span of attention.
pub const SPAN_TOKENS: u32 = 1024;
/// Rows of queries whose spans are kept apart, at most.
const SPAN_ROWS: u64 = 256;

/// Floats of what spans of a long sequence sum up to before they are put together: for each query head of each lane
/// and each span a value and sixteen floats more.
fn spans_aside(shape: &ModelShape, settings: &LoadSettings) -> u64 {
    let spans = u64::from(settings.context.div_ceil(SPAN_TOKENS));
    if shape.encoder || spans < 2 {
        return 0;
    }
    let rows = (u64::from(shape.heads) * u64::from(settings.lanes)).min(SPAN_ROWS);
    (rows * spans).saturating_mul(u64::from(shape.value_length).next_multiple_of(16) + 16)
}

/// Single-precision working rows of a step, which takes in a chunk and one token of each lane: three of the
/// model's width (state, norm, what is asked for), queries, keys, values and heads, twice the feed-forward width, angles of
/// up to two rotary embeddings and those of the next step, where there are experts a row of the width for their tokens, an
/// output of each that is used and the router's, the widest input as it is multiplied (as floats, in eight bits with 832
/// bytes for 512 values, or in BF16, whichever is more), sums of each thread; then for one token of each lane logits and
/// the output's input, and [`spans_aside`].
fn step_buffers(shape: &ModelShape, settings: &LoadSettings) -> Bytes {
    let heads = u64::from(shape.heads);
    let queries = heads * u64::from(shape.key_length);
    let outputs = heads * u64::from(shape.value_length);
    let pair = u64::from(shape.key_length) + u64::from(shape.value_length);
    let keys = u64::from(shape.kv_heads).saturating_mul(pair);
    let feed_forward = u64::from(shape.feed_forward);
    let widest = feed_forward.max(outputs).max(u64::from(shape.width));
    let threads = u64::from(settings.threads.unwrap_or(USUAL_THREADS));
    let input = |width: u64| {
        let rounded = (width.div_ceil(512) * 832 / 4).max(width.div_ceil(32) * 16);
        if shape.floats { width.next_multiple_of(16) } else { rounded }
    };
    let states = if shape.experts > 0 { 4 } else { 3 } * u64::from(shape.width);
    let angles = 3 * u64::from(shape.key_length);
    let per_token =
        keys.saturating_add(states + queries + outputs + 2 * feed_forward).saturating_add(angles);
    // What each expert computed, and which were chosen.
    let used = u64::from(shape.experts_used);
    let per_token = per_token
        .saturating_add(used.saturating_mul(u64::from(shape.width) + 4))
        .saturating_add(shape.experts.into());
    let sums = if widest > SUMMED_AT_ONCE { ROWS_ASIDE * 16 } else { ROWS };
    let per_token = per_token.saturating_add(input(widest) + sums.saturating_mul(threads));
    let aside = spans_aside(shape, settings);
    let logits = 2 * u64::from(shape.vocabulary) + input(shape.width.into());
    let logits = logits * u64::from(settings.lanes);
    let tokens = settings.step_tokens(shape);
    let rows = u64::from(tokens).saturating_mul(per_token);
    // The router's rows, where they are not stored as floats.
    let router = u64::from(shape.experts).saturating_mul(shape.width.into());
    let values =
        rows.saturating_add(router).saturating_add(logits + u64::from(settings.context) + aside);
    Bytes(values.saturating_mul(4))
}

#[cfg(test)]
mod tests;
