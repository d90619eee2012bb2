//! What is loaded, where, and what was decided about it.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

use super::{PlanPart, RunningCall, Settings, Transfer};
use crate::Problem;

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
    /// Which instance of the variant it is; the first is 1.
    #[serde(default = "first")]
    pub copy: u32,
    /// What it is doing.
    pub state: InstanceState,
    /// Why it is there.
    pub keeping: Keeping,
    /// How it is loaded.
    pub settings: Settings,
    /// What it holds of each pool.
    pub held: Vec<PoolUse>,
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
    /// Calls that wait for a lane of its variant.
    #[serde(default)]
    pub queued: u32,
    /// What its engine process is at; absent while loading.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub work: Option<InstanceWork>,
    /// Tokens of all prompts since it was loaded.
    pub prompt_tokens: u64,
    /// Of these, tokens that were known from a call before and not computed again.
    pub reused_tokens: u64,
    /// Tokens of all answers since it was loaded.
    pub answer_tokens: u64,
    /// Seconds from start to ready.
    pub load_seconds: Option<f64>,
    /// While it is loading: the share of its weights that is in memory, from 0 to 1.
    pub load_share: Option<f64>,
    /// What it computes with.
    pub kernels: Option<String>,
    /// How often its engine process ended unasked.
    pub crashes: u32,
    /// Since when it is down: its engine process ended, or it could not be loaded.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub down_since: Option<DateTime<Utc>>,
    /// Why it is not ready, or what an operator should know.
    pub note: Option<String>,
    /// Why it could not be loaded, with the way out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub problem: Option<Problem>,
}

fn first() -> u32 {
    1
}

impl InstanceReport {
    /// The variant, with the number of the instance where there are several: `larkfen-desk/q8_0#2`.
    #[must_use]
    pub fn title(&self) -> String {
        copy_name(&self.name, self.copy)
    }
}

/// An instance of a variant as operators write it; the first has no number.
#[must_use]
pub fn copy_name(variant: &str, copy: u32) -> String {
    if copy == 1 { variant.to_owned() } else { format!("{variant}#{copy}") }
}

/// What an engine process is at.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize, ToSchema)]
pub struct InstanceWork {
    /// Lanes at work.
    pub lanes_busy: u32,
    /// Lanes that left their pages to older ones.
    pub lanes_paused: u32,
    /// Pages of its cache.
    pub pages: u32,
    /// Pages that lanes have.
    pub pages_used: u32,
    /// Pages that are known from calls before, and free otherwise.
    pub pages_known: u32,
    /// Steps computed since it is loaded.
    pub steps: u64,
    /// Prompt tokens computed since it is loaded.
    pub prompt_tokens: u64,
    /// Answer tokens chosen since it is loaded.
    pub answer_tokens: u64,
    /// Seconds it computed.
    pub computed_seconds: f64,
    /// Seconds it waited for its turn to compute.
    pub waited_seconds: f64,
}

/// The machine as it stands.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize, ToSchema)]
pub struct MachineReport {
    /// Logical processors.
    pub processors: u32,
    /// How busy they are together, from 0 to 1, over the last seconds.
    pub busy: f64,
    /// Tasks that run or wait to, on average over a minute.
    pub load: f64,
    /// The hottest sensor in degrees Celsius, where the machine tells.
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
    /// Planned bytes, its share of weights included.
    pub planned: u64,
    /// Measured bytes; absent while loading.
    pub measured: Option<u64>,
}

/// Something the service decided about what is loaded, with its reasons.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Decision {
    /// When.
    pub at: DateTime<Utc>,
    /// About what: an instance or a pool.
    pub about: String,
    /// What was decided: `load`, `refuse`, `wait`, `give way`, `displace`, `unload`, `bring back`, `replace`,
    /// `load again`, `set aside`, `limit`.
    pub what: String,
    /// Why, with the figures.
    pub why: String,
}

/// `PUT /manage/v1/pools/{name}`.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct LimitRequest {
    /// Most that instances may hold together: an amount (`48 GiB`) or a share (`80 %`). It counts
    /// until the service stops.
    pub limit: String,
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
    /// Whether it is a simulated accelerator: memory is counted, the processor computes.
    #[serde(default)]
    pub simulated: bool,
    /// Bytes a simulated accelerator reads in a second, where it is slower than the processor.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub speed: Option<u64>,
}

/// The records database.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct DatabaseReport {
    /// `private` or `external`.
    pub kind: String,
    /// Whether it answered last time.
    pub up: bool,
}

/// What engines compute with.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ComputingReport {
    /// Instructions, as instances name them.
    pub kernels: String,
    /// Processors that threads compute on.
    pub processors: u32,
    /// Of these, those of a slower kind than the fastest.
    pub slower: u32,
    /// Processors that are left to the service.
    pub spare: u32,
    /// Memory nodes that memory is taken from in turn; 1 where there is only one.
    pub nodes: u32,
    /// Whether each node has a copy of the weights.
    #[serde(default)]
    pub copied: bool,
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
    /// The machine.
    #[serde(default)]
    pub machine: MachineReport,
    /// What engines compute with.
    #[serde(default)]
    pub computing: ComputingReport,
    /// Pools.
    pub pools: Vec<Pool>,
    /// Instances.
    pub instances: Vec<InstanceReport>,
    /// The latest decisions about what is loaded, the newest first.
    #[serde(default)]
    pub decisions: Vec<Decision>,
    /// Running transfers and the latest that ended, the newest first.
    #[serde(default)]
    pub transfers: Vec<Transfer>,
    /// Calls under way, the oldest first.
    #[serde(default)]
    pub calls: Vec<RunningCall>,
}

/// `POST /manage/v1/console/links`.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ConsoleLinkRequest {
    /// Whether only a browser of the user who asks may use the link.
    #[serde(default)]
    pub own_browser: bool,
}

/// A link that gives a browser permission, once.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ConsoleLink {
    /// To be opened in a browser.
    pub address: String,
    /// How long it is good.
    pub valid_seconds: u64,
}
