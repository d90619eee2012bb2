//! The management API: depot, plans, instances, pools, calls.

use std::fmt;
use std::str::FromStr;

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

use crate::Problem;

/// What a model file says of itself, read from the file.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ModelFacts {
    /// Family, as the file writes it (`general.architecture`).
    pub family: String,
    /// Name the file gives the model.
    pub name: Option<String>,
    /// Number of values in all tensors.
    pub parameters: u64,
    /// Quantisation mix: tensor types with their shares, largest first.
    pub mix: Vec<MixShare>,
    /// Short name of the mix, as used in variant names (`q8_0`).
    pub quantisation: String,
    /// Longest context in tokens.
    pub context_length: u32,
    /// Layers.
    pub layers: u32,
    /// Query heads.
    pub heads: u32,
    /// Key and value heads.
    pub kv_heads: u32,
    /// Values in one token's hidden state.
    pub width: u32,
    /// Entries of the vocabulary.
    pub vocabulary: u32,
    /// Kind of tokenizer.
    pub tokenizer: String,
    /// Tokens with a role of their own.
    #[serde(default)]
    pub special_tokens: Vec<SpecialToken>,
    /// How far its layers see, where some do not see everything.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub window: Option<WindowFacts>,
    /// What it can be asked for: `chat`, `completion`, `embeddings`, `tool calls`.
    #[serde(default)]
    pub serves: Vec<String>,
    /// How embeddings are pooled, where it makes them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pooling: Option<String>,
    /// A small conversation as the template writes it, or why it cannot.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sample: Option<String>,
    /// Files it is stored in.
    #[serde(default)]
    pub files: u32,
    /// Values in a key of one head.
    #[serde(default)]
    pub key_length: u32,
    /// Values in a value of one head.
    #[serde(default)]
    pub value_length: u32,
    /// Whether the file carries a chat template.
    pub has_template: bool,
    /// The chat template.
    #[serde(default)]
    pub template: Option<String>,
    /// Licence, as the file writes it.
    pub licence: Option<String>,
    /// Description, as the file writes it.
    pub description: Option<String>,
    /// What an operator should know.
    #[serde(default)]
    pub warnings: Vec<String>,
}

/// A token with a role of its own.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SpecialToken {
    /// What it does: `begin`, `end`, `ends answers`, `unknown`.
    pub role: String,
    /// Its id.
    pub id: u32,
    /// Its text.
    pub text: String,
}

/// Layers that see a window only.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct WindowFacts {
    /// How many layers.
    pub layers: u32,
    /// How many tokens they see.
    pub tokens: u32,
}

/// `POST /manage/v1/checks`.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct CheckRequest {
    /// Model or variant.
    pub model: String,
}

/// What the self-check of a model found.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct CheckReport {
    /// The variant.
    pub name: String,
    /// Whether everything that was looked at is well.
    pub well: bool,
    /// The verdict in a sentence.
    pub verdict: String,
    /// What was looked at, one by one.
    pub findings: Vec<Finding>,
}

/// One thing the self-check looked at.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Finding {
    /// What.
    pub what: String,
    /// Whether it is well.
    pub well: bool,
    /// What was found, in plain words.
    pub found: String,
}

/// One tensor type of a mix.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct MixShare {
    /// Tensor type.
    pub tensor_type: String,
    /// Number of tensors.
    pub tensors: u32,
    /// Their bytes.
    pub bytes: u64,
}

/// A variant of a model in the depot.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Variant {
    /// `model/variant`.
    pub name: String,
    /// The model's name.
    pub model: String,
    /// The variant's name within the model.
    pub variant: String,
    /// Where the file is.
    pub path: String,
    /// Its length in bytes.
    pub file_bytes: u64,
    /// When it was registered.
    pub registered_at: DateTime<Utc>,
    /// Whether an instance of it is ready.
    pub loaded: bool,
    /// What the file says of itself.
    pub facts: ModelFacts,
}

/// `POST /manage/v1/depot/register`.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct RegisterRequest {
    /// Absolute path of the file on the service's machine.
    pub path: String,
    /// `model` or `model/variant`; made from file name and contents where absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
}

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
    /// When it is unloaded for want of calls: `never`, `answered`, or a time such as `90s` or `10m`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<String>)]
    pub idle: Option<IdleLimit>,
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
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Settings {
    /// Tokens of context per lane.
    pub context: u32,
    /// Parallel sequences.
    pub lanes: u32,
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
    /// When it is unloaded for want of calls.
    #[serde(default)]
    #[schema(value_type = String)]
    pub idle: IdleLimit,
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
}

/// `POST /manage/v1/instances`.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct LoadRequest {
    /// Model or variant.
    pub model: String,
    /// How to load.
    #[serde(default)]
    pub settings: SettingsRequest,
}

/// A plan: what a load needs and whether it fits.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ModelPlan {
    /// The variant.
    pub name: String,
    /// The settings the plan is for.
    pub settings: Settings,
    /// The pool.
    pub pool: String,
    /// The parts.
    pub parts: Vec<PlanPart>,
    /// All parts together.
    pub total: u64,
    /// Why it does not fit; absent when it does.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub refusal: Option<Problem>,
}

/// One part of a plan.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PlanPart {
    /// What for.
    pub part: String,
    /// Bytes.
    pub bytes: u64,
}

/// Why an instance is there.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Keeping {
    /// The operator wished for it; it comes back after a restart.
    Kept,
    /// A call brought it.
    OnDemand,
}

/// What an instance is doing.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum InstanceState {
    /// Its engine process is starting.
    Loading,
    /// It answers calls.
    Ready,
    /// It finishes its calls and takes no new ones.
    Draining,
    /// Its engine process ended; it is loaded again after a pause.
    Restarting,
    /// It could not be loaded; the reason stands beside.
    Failed,
    /// It made room, or nobody called it; the reason stands beside. A call brings it back, and what
    /// made room comes back by itself when there is room.
    Displaced,
}

/// An instance.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct InstanceReport {
    /// Its id.
    pub id: Uuid,
    /// The variant it runs.
    pub name: String,
    /// What it is doing.
    pub state: InstanceState,
    /// Why it is there.
    pub keeping: Keeping,
    /// How it is loaded.
    pub settings: Settings,
    /// The pool it lives in.
    pub pool: String,
    /// Planned bytes by part.
    pub planned: Vec<PlanPart>,
    /// Planned bytes, all parts.
    pub planned_bytes: u64,
    /// Measured bytes: private ones and the file's resident pages; absent while loading.
    pub measured_bytes: Option<u64>,
    /// Id of its engine process.
    pub pid: Option<u32>,
    /// Calls it is answering.
    pub calls: u32,
    /// Tokens of all prompts since it was loaded.
    pub prompt_tokens: u64,
    /// Of these, tokens that were known from a call before and not computed again.
    pub reused_tokens: u64,
    /// Tokens of all answers since it was loaded.
    pub answer_tokens: u64,
    /// Seconds from start to ready.
    pub load_seconds: Option<f64>,
    /// What it computes with.
    pub kernels: Option<String>,
    /// How often its engine process ended unasked.
    pub crashes: u32,
    /// Why it is not ready, or what an operator should know.
    pub note: Option<String>,
}

/// A pool.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Pool {
    /// Its name.
    pub name: String,
    /// Most bytes instances may hold together.
    pub limit: u64,
    /// Bytes reserved by plans.
    pub reserved: u64,
    /// Bytes measured.
    pub measured: u64,
}

/// The records database.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct DatabaseReport {
    /// `private` or `external`.
    pub kind: String,
    /// Whether it answered last time.
    pub up: bool,
}

/// `GET /manage/v1/status`.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ServiceStatus {
    /// Version of the service.
    pub version: String,
    /// Its process.
    pub pid: u32,
    /// Where it listens.
    pub address: String,
    /// When it became ready.
    pub started_at: DateTime<Utc>,
    /// Name of this node.
    pub node: String,
    /// The records database.
    pub database: DatabaseReport,
    /// Pools.
    pub pools: Vec<Pool>,
    /// Instances.
    pub instances: Vec<InstanceReport>,
}

/// One call in the records.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct CallRecord {
    /// Its id.
    pub id: Uuid,
    /// The variant asked.
    pub name: String,
    /// When it arrived.
    pub arrived_at: DateTime<Utc>,
    /// `stop`, `length`, `cancelled` or `failed`.
    pub outcome: String,
    /// Tokens of the prompt.
    pub prompt_tokens: u32,
    /// Tokens of the answer.
    pub answer_tokens: u32,
    /// Seconds to the first piece of text.
    pub first_token_seconds: Option<f64>,
    /// Seconds from arrival to end.
    pub total_seconds: f64,
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;

    #[test]
    fn settings_that_nobody_knows_are_refused() {
        let settings = |value| serde_json::from_value::<SettingsRequest>(value);
        let known =
            settings(json!({"context": 512, "cache": "q8_0", "cache_values": "f16"})).unwrap();
        assert_eq!(known.cache, Some(CachePrecision::Q8_0));
        assert_eq!(known.cache_values, Some(CachePrecision::F16));
        let error = settings(json!({"contxt": 512})).unwrap_err().to_string();
        assert!(error.contains("`contxt`") && error.contains("`context`"), "{error}");
        assert!(settings(json!({"cache": "q2"})).is_err());
    }

    #[test]
    fn precisions_are_written_as_operators_write_them() {
        for precision in [CachePrecision::F32, CachePrecision::F16, CachePrecision::Q8_0] {
            assert_eq!(json!(precision), precision.name());
        }
    }

    #[test]
    fn idle_limits_are_words_or_times() {
        for (text, limit) in [
            ("never", IdleLimit::Never),
            ("answered", IdleLimit::Answered),
            ("90s", IdleLimit::Seconds(90)),
            ("10m", IdleLimit::Seconds(600)),
        ] {
            assert_eq!(text.parse(), Ok(limit));
            assert_eq!(limit.to_string(), text);
            assert_eq!(serde_json::from_value::<IdleLimit>(json!(text)).unwrap(), limit);
        }
        assert_eq!("2h".parse(), Ok(IdleLimit::Seconds(7200)));
        for wrong in ["", "soon", "0s", "-1m", "10", "99999999999999999999h"] {
            assert!(wrong.parse::<IdleLimit>().unwrap_err().contains("`never`"), "{wrong}");
        }
    }

    #[test]
    fn settings_of_an_older_version_are_understood() {
        let stored = json!({"context": 512, "lanes": 2, "chunk": 128, "cache": "f16"});
        let settings: Settings = serde_json::from_value(stored).unwrap();
        assert_eq!((settings.pinned, settings.priority), (false, 0));
        assert_eq!((settings.idle, settings.cache_values), (IdleLimit::Never, CachePrecision::F16));
    }

    /// Records outlive versions: facts that an older version stored lack what came later.
    #[test]
    fn facts_of_an_older_version_are_understood() {
        let facts: ModelFacts = serde_json::from_value(json!({
            "family": "llama", "name": null, "parameters": 5, "mix": [], "quantisation": "q8_0",
            "context_length": 64, "layers": 1, "heads": 2, "kv_heads": 1, "width": 16,
            "vocabulary": 300, "tokenizer": "sentencepiece kind", "has_template": false,
            "licence": null, "description": null,
        }))
        .unwrap();
        assert!(facts.serves.is_empty() && facts.special_tokens.is_empty());
        assert_eq!((facts.files, facts.window), (0, None));
    }
}
