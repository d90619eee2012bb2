//! Settings of loading.

use std::fmt;

use deft_protocol::manage::IdleLimit;
use serde::{Deserialize, Serialize};

/// Loading of models.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct LoadingConfig {
    /// Whether a call loads a model that is not loaded.
    pub on_demand: bool,
    /// Which idle instances a call may evict when memory is short; pinned and busy ones are never evicted.
    pub evict: Evictable,
    /// Idle time before a model that a call loaded is unloaded: `never`, `answered`, or a time such as `10m`.
    pub idle: IdleLimit,
    /// Most loaded instances; by default as many as fit.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub max_instances: Option<usize>,
    /// Longest time in seconds that a call waits for a model to load.
    pub wait_seconds: u64,
    /// Longest time in seconds that running calls have to finish when the service stops.
    pub drain_seconds: u64,
    /// Longest time in seconds that a call waits for memory of busy models, before one of them must finish its calls and
    /// unload.
    pub evict_busy_seconds: u64,
    /// Seconds without a computed step after which an engine process that has calls counts as hung and is replaced.
    pub hang_seconds: u64,
    /// Instructions that engines compute with: `auto` for the fastest ones, or `amx`, `avx512-vnni`, `avx-vnni`, `avx2`,
    /// `scalar`, `amx-simulated`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub kernels: Option<String>,
    /// Number of processors that engines leave to the service and to other programs.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub spare_processors: Option<usize>,
    /// On machines with several NUMA nodes: `interleaved` weights, or `replicated` ones, which need as many times the memory.
    pub weights_on_nodes: WeightsOnNodes,
}

/// Where weights are on a machine with several memory (NUMA) nodes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum WeightsOnNodes {
    /// Once, over all nodes in turn.
    Interleaved,
    /// A copy on each node, so that each processor reads near memory; as many times the memory.
    Replicated,
}

/// Leaves the choice of instructions to the service.
pub(super) const AUTO: &str = "auto";

impl LoadingConfig {
    /// The instructions that the operator requests, unless the service chooses.
    pub(crate) fn forced_kernels(&self) -> Option<&str> {
        self.kernels.as_deref().filter(|name| *name != AUTO)
    }
}

/// Which idle instances a call may evict.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Evictable {
    /// None.
    None,
    /// Those that a call loaded.
    OnDemand,
    /// Those that the operator requested as well; they are reloaded when there is memory again.
    Any,
}

impl fmt::Display for Evictable {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::None => "none",
            Self::OnDemand => "on-demand",
            Self::Any => "any",
        })
    }
}
