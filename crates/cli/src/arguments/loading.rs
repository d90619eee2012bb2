//! How to load, as it is written.

use clap::{Args, ValueEnum};
use deft_protocol::manage::{CachePrecision, IdleLimit, PoolShare, SettingsRequest, WeightsHeld};

/// How to load; the model's defaults stand in for what is not named.
#[derive(Debug, Clone, Args)]
pub(crate) struct LoadArguments {
    /// Tokens of context in every lane.
    #[arg(long, value_name = "TOKENS")]
    context: Option<u32>,
    /// Parallel sequences.
    #[arg(long)]
    lanes: Option<u32>,
    /// Tokens that all lanes together can hold, where that is to be less than each one's context.
    #[arg(long, value_name = "TOKENS")]
    cache_tokens: Option<u32>,
    /// Prompt tokens taken in at a time.
    #[arg(long, value_name = "TOKENS")]
    chunk: Option<u32>,
    /// Precision of cached keys and values; `--cache-values` sets that of values apart.
    #[arg(long, value_enum)]
    cache: Option<Cache>,
    /// Precision of cached values.
    #[arg(long, value_enum)]
    cache_values: Option<Cache>,
    /// Pools for its layers, filled in their order: `fern,host`; with a number `fern=12` or a share
    /// `fern=50%`. Host memory where nothing is said.
    #[arg(long = "in", value_name = "POOL[=LAYERS]", value_delimiter = ',')]
    pools: Vec<PoolShare>,
    /// How weights are held in host memory.
    #[arg(long, value_enum)]
    weights: Option<Weights>,
    /// Threads that compute; one for each processor where nothing is said.
    #[arg(long, value_name = "COUNT")]
    threads: Option<u32>,
    /// Never unload it to make room for others.
    #[arg(long)]
    pinned: bool,
    /// Models of lower priority make room first and come back last; 0 where nothing is said.
    #[arg(long, value_name = "NUMBER", allow_negative_numbers = true)]
    priority: Option<i32>,
    /// Its share of the processor while others compute too, in proportion to theirs; 100 is usual.
    #[arg(long, value_name = "NUMBER")]
    share: Option<u32>,
    /// Unload it when it had no call for so long: `never`, `answered`, or a time such as `10m`.
    #[arg(long, value_name = "LIMIT")]
    idle: Option<IdleLimit>,
}

#[derive(Debug, Clone, Copy, ValueEnum)]
enum Cache {
    F32,
    F16,
    #[value(name = "q8_0")]
    Q8,
}

impl From<Cache> for CachePrecision {
    fn from(cache: Cache) -> Self {
        match cache {
            Cache::F32 => Self::F32,
            Cache::F16 => Self::F16,
            Cache::Q8 => Self::Q8_0,
        }
    }
}

#[derive(Debug, Clone, Copy, ValueEnum)]
enum Weights {
    /// A mapping of the file; the kernel may take it back when memory is short.
    Mapped,
    /// The same mapping, locked into memory.
    Resident,
}

impl From<Weights> for WeightsHeld {
    fn from(weights: Weights) -> Self {
        match weights {
            Weights::Mapped => Self::Mapped,
            Weights::Resident => Self::Resident,
        }
    }
}

impl LoadArguments {
    pub(crate) fn request(&self) -> SettingsRequest {
        SettingsRequest {
            context: self.context,
            lanes: self.lanes,
            cache_tokens: self.cache_tokens,
            chunk: self.chunk,
            cache: self.cache.map(CachePrecision::from),
            cache_values: self.cache_values.map(CachePrecision::from),
            pinned: self.pinned.then_some(true),
            priority: self.priority,
            share: self.share,
            idle: self.idle,
            pools: (!self.pools.is_empty()).then(|| self.pools.clone()),
            weights: self.weights.map(WeightsHeld::from),
            threads: self.threads,
        }
    }
}
