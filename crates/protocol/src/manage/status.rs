//! Status: the service, its pools and instances, and decisions about them.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

use super::{PlanPart, RunningCall, Settings, Tracing, Transfer};
use crate::Problem;

/// Who had an instance loaded.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Origin {
    /// The operator loaded it; it is reloaded after a restart.
    #[serde(alias = "kept")]
    Requested,
    /// A call loaded it.
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
    /// It could not be loaded; `problem` has the reason.
    Failed,
    /// It holds no memory: it was evicted for another model or unloaded when idle; `note` has the reason. A call reloads
    /// it, and an evicted instance is also reloaded when there is memory again.
    #[serde(alias = "displaced")]
    Evicted,
}

/// An instance.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct InstanceReport {
    /// Its id.
    pub id: Uuid,
    /// The variant it runs.
    pub name: String,
    /// Number of the instance among those of its variant, from 1.
    #[serde(default = "first", alias = "copy")]
    pub number: u32,
    /// What it is doing.
    pub state: InstanceState,
    /// Who had it loaded.
    #[serde(alias = "keeping")]
    pub origin: Origin,
    /// Load settings.
    pub settings: Settings,
    /// What it holds of each pool.
    pub held: Vec<PoolUse>,
    /// Reserved bytes by part, as planned.
    pub planned: Vec<PlanPart>,
    /// Reserved bytes, all parts.
    #[serde(alias = "planned_bytes")]
    pub reserved_bytes: u64,
    /// Measured bytes: private memory and the resident pages of the file; absent while loading.
    pub measured_bytes: Option<u64>,
    /// Id of its engine process.
    pub pid: Option<u32>,
    /// Calls it is answering.
    pub calls: u32,
    /// Calls that wait for a lane of its variant.
    #[serde(default)]
    pub queued: u32,
    /// Work of its engine process; absent while loading.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub work: Option<InstanceWork>,
    /// Prompt tokens since it was loaded.
    pub prompt_tokens: u64,
    /// Of these, tokens that were in the prefix cache.
    #[serde(alias = "reused_tokens")]
    pub cached_tokens: u64,
    /// Answer tokens since it was loaded.
    pub answer_tokens: u64,
    /// Seconds from start to ready.
    pub load_seconds: Option<f64>,
    /// While it is loading: share of its weights in memory, from 0 to 1.
    pub load_share: Option<f64>,
    /// Instructions it computes with.
    pub kernels: Option<String>,
    /// Number of times its engine process ended unexpectedly.
    pub crashes: u32,
    /// Since when it is down: its engine process ended, or it could not be loaded.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub down_since: Option<DateTime<Utc>>,
    /// Why it is not ready, or a note for the operator.
    pub note: Option<String>,
    /// Why it could not be loaded, and what to do.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub problem: Option<Problem>,
}

fn first() -> u32 {
    1
}

impl InstanceReport {
    /// Its variant, with its number unless that is 1: `larkfen-desk/q8_0#2`.
    #[must_use]
    pub fn title(&self) -> String {
        instance_title(&self.name, self.number)
    }
}

/// Title of an instance: its variant, with its number unless that is 1.
#[must_use]
pub fn instance_title(variant: &str, number: u32) -> String {
    if number == 1 { variant.to_owned() } else { format!("{variant}#{number}") }
}

/// Work of an engine process.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize, ToSchema)]
pub struct InstanceWork {
    /// Busy lanes.
    pub lanes_busy: u32,
    /// Lanes that are paused because older ones need their pages.
    pub lanes_paused: u32,
    /// Pages of its KV cache.
    pub pages: u32,
    /// Pages in use by lanes.
    pub pages_used: u32,
    /// Pages of earlier calls that are cached; they are evicted when a lane needs a page.
    #[serde(alias = "pages_known")]
    pub pages_cached: u32,
    /// Steps computed since it was loaded.
    pub steps: u64,
    /// Prompt tokens computed since it was loaded.
    pub prompt_tokens: u64,
    /// Answer tokens sampled since it was loaded.
    pub answer_tokens: u64,
    /// Seconds of computing.
    pub computed_seconds: f64,
    /// Seconds of waiting for the processor.
    pub waited_seconds: f64,
}

/// The machine.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize, ToSchema)]
pub struct MachineReport {
    /// Logical processors.
    pub processors: u32,
    /// Processor utilisation over the last seconds, from 0 to 1.
    pub busy: f64,
    /// Load average of one minute: tasks that run or wait to run.
    pub load: f64,
    /// Temperature of the hottest sensor in degrees Celsius, if the machine reports it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub temperature: Option<f64>,
    /// Memory in bytes.
    pub memory: u64,
    /// Memory that is available without swapping.
    pub memory_available: u64,
}

/// What an instance holds of a pool.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PoolUse {
    /// The pool's name.
    pub pool: String,
    /// Reserved bytes, with its share of the weights.
    #[serde(alias = "planned")]
    pub reserved: u64,
    /// Measured bytes; absent while loading.
    pub measured: Option<u64>,
}

/// A decision of the service about an instance or a pool, with its reason.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Decision {
    /// When.
    pub at: DateTime<Utc>,
    /// The instance or pool.
    pub about: String,
    /// What was decided: `load`, `refuse`, `wait`, `drain`, `evict`, `unload`, `reload`, `replace`, `restart`,
    /// `fail`, `limit`.
    pub what: String,
    /// The reason, with the figures.
    pub why: String,
}

/// `PUT /manage/v1/pools/{name}`.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct LimitRequest {
    /// Most memory that instances can reserve: an amount (`48 GiB`) or a share (`80 %`). It applies until the
    /// service stops.
    pub limit: String,
}

/// A pool.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Pool {
    /// Its name.
    pub name: String,
    /// Most bytes that instances can reserve.
    pub limit: u64,
    /// Bytes reserved by instances.
    pub reserved: u64,
    /// Bytes measured.
    pub measured: u64,
    /// Whether it is a simulated accelerator: memory is counted, the processor computes.
    #[serde(default)]
    pub simulated: bool,
    /// Simulated read speed of the accelerator in bytes per second; absent if it is as fast as the processor.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub speed: Option<u64>,
}

/// The records database.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct DatabaseReport {
    /// `private` or `external`.
    pub kind: String,
    /// Whether it answered the last statement.
    pub up: bool,
}

/// Instructions, processors and memory nodes that engines compute with.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ComputingReport {
    /// Instructions.
    pub kernels: String,
    /// Processors with a compute thread.
    pub processors: u32,
    /// Of these, processors slower than the fastest kind.
    pub slower: u32,
    /// Processors reserved for the service.
    pub spare: u32,
    /// NUMA nodes that memory is interleaved over; 1 where there is only one.
    pub nodes: u32,
    /// Whether the weights are replicated on each node.
    #[serde(default, alias = "copied")]
    pub replicated: bool,
}

/// `GET /manage/v1/status`.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ServiceStatus {
    /// Version of the service.
    pub version: String,
    /// Process id.
    pub pid: u32,
    /// Address it listens on.
    pub address: String,
    /// When it became ready.
    pub started_at: DateTime<Utc>,
    /// Name of this node.
    pub node: String,
    /// The records database.
    pub database: DatabaseReport,
    /// The machine.
    #[serde(default)]
    pub machine: MachineReport,
    /// Instructions, processors and memory nodes that engines compute with.
    #[serde(default)]
    pub computing: ComputingReport,
    /// Pools.
    pub pools: Vec<Pool>,
    /// Instances.
    pub instances: Vec<InstanceReport>,
    /// The latest decisions, newest first.
    #[serde(default)]
    pub decisions: Vec<Decision>,
    /// Running transfers and the latest finished ones, newest first.
    #[serde(default)]
    pub transfers: Vec<Transfer>,
    /// Running calls, oldest first.
    #[serde(default)]
    pub calls: Vec<RunningCall>,
    /// Models whose calls are traced.
    #[serde(default)]
    pub tracing: Vec<Tracing>,
}

/// `POST /manage/v1/console/links`.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ConsoleLinkRequest {
    /// Whether only a browser of the user who asks can use the link.
    #[serde(default)]
    pub own_browser: bool,
}

/// A link that gives one browser permission to manage, once.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ConsoleLink {
    /// Address to open in a browser.
    pub address: String,
    /// Seconds until it expires.
    pub valid_seconds: u64,
}
