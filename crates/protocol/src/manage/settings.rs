//! Load settings.

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Load settings; absent fields get the defaults of the model.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SettingsRequest {
    /// Tokens of context per lane.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub context: Option<u32>,
    /// Number of lanes: sequences that are computed in parallel.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub lanes: Option<u32>,
    /// Size of the KV cache that all lanes share, in tokens; at least the context of one lane. Default: lanes times
    /// context. With less, the youngest lane is paused while the others need its pages.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cache_tokens: Option<u32>,
    /// Most prompt tokens that one step processes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub chunk: Option<u32>,
    /// Precision of cached keys, and of cached values unless `cache_values` is set.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cache: Option<CachePrecision>,
    /// Precision of cached values.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cache_values: Option<CachePrecision>,
    /// Whether it is never evicted.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pinned: Option<bool>,
    /// Instances of lower importance are evicted first and reloaded last.
    #[serde(default, alias = "priority", skip_serializing_if = "Option::is_none")]
    pub importance: Option<i32>,
    /// Processor share while other instances compute too, in proportion to their shares; 100 by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub share: Option<u32>,
    /// Idle time before it is unloaded: `never`, `answered` (as soon as it has no call), or a time such as `90s` or `10m`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<String>)]
    pub idle: Option<IdleLimit>,
    /// Pools for its layers, filled in this order: `fern`, with a number of layers `fern=12`, or with a
    /// share of them `fern=50%`. Layers without a pool are placed in host memory.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<Vec<String>>)]
    pub pools: Option<Vec<PoolShare>>,
    /// How weights are held in host memory.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub weights: Option<WeightsHeld>,
    /// Number of compute threads; one per processor by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub threads: Option<u32>,
}

impl SettingsRequest {
    /// Removes these settings, so that the model's defaults apply.
    pub fn reset(&mut self, names: &[SettingName]) {
        for name in names {
            match name {
                SettingName::Context => self.context = None,
                SettingName::Lanes => self.lanes = None,
                SettingName::CacheTokens => self.cache_tokens = None,
                SettingName::Cache => (self.cache, self.cache_values) = (None, None),
                SettingName::Chunk => self.chunk = None,
                SettingName::Pools => self.pools = None,
                SettingName::Weights => self.weights = None,
                SettingName::Threads => self.threads = None,
                SettingName::Pinned => self.pinned = None,
                SettingName::Importance => self.importance = None,
                SettingName::Share => self.share = None,
                SettingName::Idle => self.idle = None,
            }
        }
    }

    /// These settings, with `defaults` for absent fields.
    #[must_use]
    pub fn or(&self, defaults: &Self) -> Self {
        let (own, other) = (self.clone(), defaults.clone());
        Self {
            context: own.context.or(other.context),
            lanes: own.lanes.or(other.lanes),
            cache_tokens: own.cache_tokens.or(other.cache_tokens),
            chunk: own.chunk.or(other.chunk),
            cache: own.cache.or(other.cache),
            // A precision set for both is not undone by a default for values.
            cache_values: own.cache_values.or(if own.cache.is_some() {
                None
            } else {
                other.cache_values
            }),
            pinned: own.pinned.or(other.pinned),
            importance: own.importance.or(other.importance),
            share: own.share.or(other.share),
            idle: own.idle.or(other.idle),
            pools: own.pools.or(other.pools),
            weights: own.weights.or(other.weights),
            threads: own.threads.or(other.threads),
        }
    }
}

/// Names of load settings.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
#[expect(missing_docs, reason = "each is described where it is a field")]
pub enum SettingName {
    Context,
    Lanes,
    CacheTokens,
    /// Precision of cached keys and values.
    Cache,
    Chunk,
    Pools,
    Weights,
    Threads,
    Pinned,
    Importance,
    Share,
    Idle,
}

impl SettingName {
    /// All settings.
    pub const ALL: [Self; 12] = [
        Self::Context,
        Self::Lanes,
        Self::CacheTokens,
        Self::Cache,
        Self::Chunk,
        Self::Pools,
        Self::Weights,
        Self::Threads,
        Self::Pinned,
        Self::Importance,
        Self::Share,
        Self::Idle,
    ];
}

/// Processor share of an instance that sets none.
pub const USUAL_SHARE: u32 = 100;

fn usual_share() -> u32 {
    USUAL_SHARE
}

/// How weights are held in host memory.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum WeightsHeld {
    /// Memory-mapped: the system may evict pages when memory is short and read them again from disk.
    #[default]
    Mapped,
    /// Memory-mapped and locked into memory.
    Resident,
}

/// Layers requested to be in a pool.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct PoolShare {
    /// The pool's name.
    pub pool: String,
    /// How many.
    pub layers: LayerShare,
}

/// How many layers of an instance a pool gets.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum LayerShare {
    /// A number of layers.
    Count(u32),
    /// A percentage of the layers.
    Percent(u32),
    /// As many as fit; in the last pool without a number, all that are left.
    Rest,
}

impl fmt::Display for PoolShare {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.layers {
            LayerShare::Count(count) => write!(f, "{}={count}", self.pool),
            LayerShare::Percent(percent) => write!(f, "{}={percent}%", self.pool),
            LayerShare::Rest => f.write_str(&self.pool),
        }
    }
}

impl FromStr for PoolShare {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let wrong = || {
            format!("`{text}` is not a pool with its layers; write `fern`, `fern=12` or `fern=50%`")
        };
        let (pool, layers) = match text.split_once('=') {
            None => (text, LayerShare::Rest),
            Some((pool, number)) => match number.strip_suffix('%') {
                Some(percent) => {
                    let percent = percent.trim().parse().map_err(|_| wrong())?;
                    (pool, LayerShare::Percent(percent))
                }
                None => (pool, LayerShare::Count(number.trim().parse().map_err(|_| wrong())?)),
            },
        };
        let plausible = !matches!(layers, LayerShare::Percent(101..)) && !pool.trim().is_empty();
        if !plausible {
            return Err(wrong());
        }
        Ok(Self { pool: pool.trim().to_owned(), layers })
    }
}

impl TryFrom<String> for PoolShare {
    type Error = String;

    fn try_from(text: String) -> Result<Self, String> {
        text.parse()
    }
}

impl From<PoolShare> for String {
    fn from(share: PoolShare) -> Self {
        share.to_string()
    }
}

/// Precision of cached keys and values.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
#[allow(non_camel_case_types)]
pub enum CachePrecision {
    /// Single precision.
    F32,
    /// Half precision.
    #[default]
    F16,
    /// Eight bits in blocks.
    Q8_0,
}

impl CachePrecision {
    /// Its name on the command line and in the API.
    #[must_use]
    pub const fn name(self) -> &'static str {
        match self {
            Self::F32 => "f32",
            Self::F16 => "f16",
            Self::Q8_0 => "q8_0",
        }
    }
}

/// How an instance is loaded.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Settings {
    /// Tokens of context per lane.
    pub context: u32,
    /// Number of lanes: sequences that are computed in parallel.
    pub lanes: u32,
    /// Size of the KV cache that all lanes share, in tokens; lanes times context where absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cache_tokens: Option<u32>,
    /// Most prompt tokens that one step processes.
    pub chunk: u32,
    /// Precision of cached keys.
    pub cache: CachePrecision,
    /// Precision of cached values.
    #[serde(default)]
    pub cache_values: CachePrecision,
    /// Whether it is never evicted.
    #[serde(default)]
    pub pinned: bool,
    /// Instances of lower importance are evicted first and reloaded last.
    #[serde(default, alias = "priority")]
    pub importance: i32,
    /// Processor share while other instances compute too, in proportion to their shares.
    #[serde(default = "usual_share")]
    pub share: u32,
    /// Idle time before it is unloaded.
    #[serde(default)]
    #[schema(value_type = String)]
    pub idle: IdleLimit,
    /// Pools with their layers; host memory where empty.
    #[serde(default)]
    #[schema(value_type = Vec<String>)]
    pub pools: Vec<PoolShare>,
    /// How weights are held in host memory.
    #[serde(default)]
    pub weights: WeightsHeld,
    /// Number of compute threads; one per processor where absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub threads: Option<u32>,
}

/// A request for the same settings.
impl From<&Settings> for SettingsRequest {
    fn from(settings: &Settings) -> Self {
        Self {
            pinned: Some(settings.pinned),
            importance: Some(settings.importance),
            share: Some(settings.share),
            idle: Some(settings.idle),
            context: Some(settings.context),
            lanes: Some(settings.lanes),
            cache_tokens: settings.cache_tokens,
            chunk: Some(settings.chunk),
            cache: Some(settings.cache),
            cache_values: Some(settings.cache_values),
            pools: Some(settings.pools.clone()),
            weights: Some(settings.weights),
            threads: settings.threads,
        }
    }
}

/// Idle time before an instance is unloaded.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub enum IdleLimit {
    /// Never.
    #[default]
    Never,
    /// As soon as its last call is answered.
    Answered,
    /// After this many seconds without a call.
    Seconds(u64),
}

impl fmt::Display for IdleLimit {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Never => f.write_str("never"),
            Self::Answered => f.write_str("answered"),
            // Without spaces, so that it is one argument of a command.
            Self::Seconds(seconds) if seconds.is_multiple_of(60) => write!(f, "{}m", seconds / 60),
            Self::Seconds(seconds) => write!(f, "{seconds}s"),
        }
    }
}

impl FromStr for IdleLimit {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let wrong = || {
            format!(
                "`{text}` is not an idle limit; write `never`, `answered`, or a time such as `90s`, `10m` or `2h`"
            )
        };
        match text {
            "never" => return Ok(Self::Never),
            "answered" => return Ok(Self::Answered),
            _ => {}
        }
        match humantime::parse_duration(text).map(|time| time.as_secs()) {
            Ok(seconds) if seconds > 0 => Ok(Self::Seconds(seconds)),
            _ => Err(wrong()),
        }
    }
}

impl Serialize for IdleLimit {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for IdleLimit {
    fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let text = String::deserialize(deserializer)?;
        text.parse().map_err(serde::de::Error::custom)
    }
}
