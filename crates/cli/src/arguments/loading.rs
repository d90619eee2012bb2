//! Load settings, as clap parses them.

use clap::{Args, ValueEnum};
use deft_protocol::manage::{
    CachePrecision, IdleLimit, PoolShare, SettingName, SettingsRequest, WeightsHeld,
};

/// Load settings; the model's defaults apply to those that are not named.
#[derive(Debug, Clone, Args)]
pub(crate) struct LoadArguments {
    /// Set the context length of each lane, in tokens.
    #[arg(long, value_name = "TOKENS")]
    context: Option<u32>,
    /// Compute this many sequences in parallel, each in a lane of its own.
    #[arg(long, value_name = "COUNT")]
    lanes: Option<u32>,
    /// Set the size of the KV cache that all lanes share, in tokens (default: lanes times context).
    #[arg(long, value_name = "TOKENS")]
    cache_tokens: Option<u32>,
    /// Set the precision of cached keys and values.
    #[arg(long, value_enum)]
    cache: Option<Cache>,
    /// Set the precision of cached values, if different.
    #[arg(long, value_enum)]
    cache_values: Option<Cache>,
    /// Process this many prompt tokens per step.
    #[arg(long, value_name = "TOKENS")]
    chunk: Option<u32>,
    /// Place the layers in these pools, filled in this order: `fern,host`, `fern=12` or `fern=50%` (default: host memory).
    #[arg(long = "in", value_name = "POOL[=LAYERS]", value_delimiter = ',')]
    pools: Vec<PoolShare>,
    /// Hold the weights in host memory like this.
    #[arg(long, value_enum)]
    weights: Option<Weights>,
    /// Use this many compute threads (default: one per processor).
    #[arg(long, value_name = "COUNT")]
    threads: Option<u32>,
    /// Never evict it.
    #[arg(long, overrides_with = "no_pinned")]
    pinned: bool,
    /// Allow its eviction again.
    #[arg(long, overrides_with = "pinned")]
    no_pinned: bool,
    /// Evict models of lower importance first (default: 0).
    #[arg(long, value_name = "NUMBER", allow_negative_numbers = true, alias = "priority")]
    importance: Option<i32>,
    /// Set the processor share while other models compute too (default: 100).
    #[arg(long, value_name = "NUMBER")]
    share: Option<u32>,
    /// Unload it after this idle time: `never`, `answered`, or a time such as `10m`.
    #[arg(long, value_name = "TIME")]
    idle: Option<IdleLimit>,
}

/// Settings that can be set back to the model's defaults.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum Reset {
    /// All settings.
    All,
    Context,
    Lanes,
    CacheTokens,
    Cache,
    Chunk,
    /// The pools of `--in`.
    In,
    Weights,
    Threads,
    Pinned,
    Importance,
    Share,
    Idle,
}

impl Reset {
    /// The names of the API.
    pub(crate) fn names(wanted: &[Self]) -> Vec<SettingName> {
        let names = |wanted: &Self| match wanted {
            Self::All => SettingName::ALL.to_vec(),
            Self::Context => vec![SettingName::Context],
            Self::Lanes => vec![SettingName::Lanes],
            Self::CacheTokens => vec![SettingName::CacheTokens],
            Self::Cache => vec![SettingName::Cache],
            Self::Chunk => vec![SettingName::Chunk],
            Self::In => vec![SettingName::Pools],
            Self::Weights => vec![SettingName::Weights],
            Self::Threads => vec![SettingName::Threads],
            Self::Pinned => vec![SettingName::Pinned],
            Self::Importance => vec![SettingName::Importance],
            Self::Share => vec![SettingName::Share],
            Self::Idle => vec![SettingName::Idle],
        };
        wanted.iter().flat_map(names).collect()
    }
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
    /// Memory-mapped: the system may evict pages when memory is short.
    Mapped,
    /// Memory-mapped and locked into memory.
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
            pinned: if self.no_pinned { Some(false) } else { self.pinned.then_some(true) },
            importance: self.importance,
            share: self.share,
            idle: self.idle,
            pools: (!self.pools.is_empty()).then(|| self.pools.clone()),
            weights: self.weights.map(WeightsHeld::from),
            threads: self.threads,
        }
    }
}
