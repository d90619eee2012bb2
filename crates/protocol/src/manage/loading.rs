//! Loading: how, what it needs, and whether it fits.

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::Problem;

/// How to load; absent fields get the model's defaults.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SettingsRequest {
    /// Tokens of context per lane.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub context: Option<u32>,
    /// Parallel sequences.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub lanes: Option<u32>,
    /// Tokens that all lanes together can hold, at least one lane's context; every lane can fill its own
    /// where nothing is said. With less, the youngest lane is paused while the others need its room.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cache_tokens: Option<u32>,
    /// Most prompt tokens per step.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub chunk: Option<u32>,
    /// Precision of cached keys, and of values where nothing is said of those.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cache: Option<CachePrecision>,
    /// Precision of cached values.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cache_values: Option<CachePrecision>,
    /// Never unload it to make room.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pinned: Option<bool>,
    /// Instances of lower priority make room first and come back last.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub priority: Option<i32>,
    /// Its share of the processor while others compute too, in proportion to theirs; 100 where nothing
    /// is said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub share: Option<u32>,
    /// When it is unloaded for want of calls: `never`, `answered`, or a time such as `90s` or `10m`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<String>)]
    pub idle: Option<IdleLimit>,
    /// Pools for its layers, filled in their order: `fern`, or with a number of layers `fern=12`, or
    /// a share of them `fern=50%`. Host memory where nothing is said, and for what no number took.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<Vec<String>>)]
    pub pools: Option<Vec<PoolShare>>,
    /// How weights in host memory are held.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub weights: Option<WeightsHeld>,
    /// Threads that compute; one for each processor where nothing is said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub threads: Option<u32>,
}

impl SettingsRequest {
    /// With these where this says nothing.
    #[must_use]
    pub fn or(&self, defaults: &Self) -> Self {
        let (own, other) = (self.clone(), defaults.clone());
        Self {
            context: own.context.or(other.context),
            lanes: own.lanes.or(other.lanes),
            cache_tokens: own.cache_tokens.or(other.cache_tokens),
            chunk: own.chunk.or(other.chunk),
            cache: own.cache.or(other.cache),
            // What is said of both precisions together is not undone by a default for one.
            cache_values: own.cache_values.or(if own.cache.is_some() {
                None
            } else {
                other.cache_values
            }),
            pinned: own.pinned.or(other.pinned),
            priority: own.priority.or(other.priority),
            share: own.share.or(other.share),
            idle: own.idle.or(other.idle),
            pools: own.pools.or(other.pools),
            weights: own.weights.or(other.weights),
            threads: own.threads.or(other.threads),
        }
    }
}

/// The share of the processor of whoever says nothing of it.
pub const USUAL_SHARE: u32 = 100;

fn usual_share() -> u32 {
    USUAL_SHARE
}

/// How weights in host memory are held.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum WeightsHeld {
    /// A mapping of the file, which the kernel may take back when memory is short.
    #[default]
    Mapped,
    /// The same mapping, locked into memory.
    Resident,
}

/// Layers wished to be in a pool.
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
    /// So many.
    Count(u32),
    /// So many of a hundred.
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
            format!("`{text}` is no pool with its layers; write `fern`, `fern=12` or `fern=50%`")
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
    /// As operators write it.
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
    /// Parallel sequences.
    pub lanes: u32,
    /// Tokens that all lanes together can hold; every lane can fill its context where absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cache_tokens: Option<u32>,
    /// Most prompt tokens per step.
    pub chunk: u32,
    /// Precision of cached keys.
    pub cache: CachePrecision,
    /// Precision of cached values.
    #[serde(default)]
    pub cache_values: CachePrecision,
    /// Whether it is never unloaded to make room.
    #[serde(default)]
    pub pinned: bool,
    /// Instances of lower priority make room first and come back last.
    #[serde(default)]
    pub priority: i32,
    /// Its share of the processor while others compute too, in proportion to theirs.
    #[serde(default = "usual_share")]
    pub share: u32,
    /// When it is unloaded for want of calls.
    #[serde(default)]
    #[schema(value_type = String)]
    pub idle: IdleLimit,
    /// Pools with their layers; host memory where there is none.
    #[serde(default)]
    #[schema(value_type = Vec<String>)]
    pub pools: Vec<PoolShare>,
    /// How weights in host memory are held.
    #[serde(default)]
    pub weights: WeightsHeld,
    /// Threads that compute; one for each processor where absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub threads: Option<u32>,
}

/// What asks for the same again.
impl From<&Settings> for SettingsRequest {
    fn from(settings: &Settings) -> Self {
        Self {
            pinned: Some(settings.pinned),
            priority: Some(settings.priority),
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

/// When an instance is unloaded for want of calls.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub enum IdleLimit {
    /// Never.
    #[default]
    Never,
    /// As soon as its last call is answered.
    Answered,
    /// After so many seconds without a call.
    Seconds(u64),
}

impl fmt::Display for IdleLimit {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Never => f.write_str("never"),
            Self::Answered => f.write_str("answered"),
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
                "`{text}` is no idle limit; write `never`, `answered`, or a time such as `90s`, `10m` or `2h`"
            )
        };
        match text {
            "never" => return Ok(Self::Never),
            "answered" => return Ok(Self::Answered),
            _ => {}
        }
        let units = [("s", 1), ("m", 60), ("h", 3600)];
        let found = units.iter().find_map(|(unit, seconds)| {
            let count: u64 = text.strip_suffix(unit)?.trim().parse().ok()?;
            count.checked_mul(*seconds).filter(|&seconds| seconds > 0)
        });
        found.map(Self::Seconds).ok_or_else(wrong)
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

/// `POST /manage/v1/plans`: loads that are planned together, one after the other.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PlanRequest {
    /// What is to be loaded.
    pub models: Vec<LoadRequest>,
}

/// What several loads need, and what becomes of the pools.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PlanReport {
    /// A plan for each model; one that does not fit takes nothing from those after it.
    pub plans: Vec<ModelPlan>,
    /// The pools, with and without what fits.
    pub pools: Vec<PoolPlan>,
}

/// A pool before and after the loads of a plan.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PoolPlan {
    /// Its name.
    pub name: String,
    /// Most bytes instances may hold together.
    pub limit: u64,
    /// Bytes reserved now.
    pub reserved: u64,
    /// Bytes reserved after the loads that fit.
    pub after: u64,
    /// Whether it is a simulated accelerator: memory is counted, the processor computes.
    #[serde(default)]
    pub simulated: bool,
}

/// `POST /manage/v1/instances`.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct LoadRequest {
    /// Model or variant.
    pub model: String,
    /// How to load.
    #[serde(default)]
    pub settings: SettingsRequest,
    /// How many instances there are to be of it; as many as there are, at least one, where nothing is
    /// said. They share its weights in host memory.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub copies: Option<u32>,
}

impl LoadRequest {
    /// One with nothing special about it.
    #[must_use]
    pub fn of(model: impl Into<String>, settings: SettingsRequest) -> Self {
        Self { model: model.into(), settings, copies: None }
    }
}

/// A plan: what a load needs and whether it fits.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ModelPlan {
    /// The variant.
    pub name: String,
    /// The settings the plan is for.
    pub settings: Settings,
    /// How many instances it is for.
    pub copies: u32,
    /// The command that loads so.
    pub command: String,
    /// The parts of one.
    pub parts: Vec<PlanPart>,
    /// All parts of one together.
    pub total: u64,
    /// What an operator should know.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub notes: Vec<String>,
    /// Why it does not fit; absent when it does.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub refusal: Option<Problem>,
}

/// One part of a plan.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PlanPart {
    /// Where.
    pub pool: String,
    /// What for.
    pub part: String,
    /// Bytes.
    pub bytes: u64,
}
