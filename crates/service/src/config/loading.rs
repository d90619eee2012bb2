//! Settings of loading.

use std::fmt;

use deft_protocol::manage::IdleLimit;
use serde::{Deserialize, Serialize};

/// Loading of models.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct LoadingConfig {
    /// Whether a call loads a registered model that is not loaded.
    pub on_demand: bool,
    /// Who may be unloaded to make room for such a call, pinned and busy ones never.
    pub make_room: MakeRoom,
    /// When what a call brought is unloaded for want of further calls.
    pub idle: IdleLimit,
    /// Most instances at once; as many as there is memory for where absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub most_instances: Option<usize>,
    /// Longest time in seconds a call waits for a model to be loaded.
    pub wait_seconds: u64,
    /// Longest time in seconds that running calls get to end when the service stops.
    pub drain_seconds: u64,
    /// A model that always has calls takes no more of them when a call of another model has waited so many
    /// seconds for its room.
    pub gives_way_seconds: u64,
    /// An engine process that has calls and computes no step for so many seconds is replaced.
    pub hang_seconds: u64,
    /// Instructions that engines compute with; `auto`, or absent: the fastest of this machine.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub kernels: Option<String>,
    /// Processors that engines leave to the service and to others; absent: one, where there are eight or more.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub spare_processors: Option<usize>,
    /// With several memory nodes: whether each has a copy of the weights.
    pub weights_on_nodes: WeightsOnNodes,
}

/// Where weights are on a machine with several memory (NUMA) nodes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum WeightsOnNodes {
    /// Once, over all nodes in turn.
    Interleaved,
    /// A copy on each node, so that each processor reads near memory; as many times the memory.
    Copied,
}

/// Leaves the choice of instructions to the service.
pub(super) const AUTO: &str = "auto";

impl LoadingConfig {
    /// The instructions that the operator wants, where he does not leave the choice to the service.
    pub(crate) fn forced_kernels(&self) -> Option<&str> {
        self.kernels.as_deref().filter(|name| *name != AUTO)
    }
}

/// Who may be unloaded to make room for a call.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum MakeRoom {
    /// Nobody.
    Never,
    /// What calls brought.
    OnDemand,
    /// What the operator keeps as well; it comes back when there is room.
    Kept,
}

impl fmt::Display for MakeRoom {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Never => "never",
            Self::OnDemand => "on-demand",
            Self::Kept => "kept",
        })
    }
}
