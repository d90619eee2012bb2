//! Plans and load requests.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::{SettingName, Settings, SettingsRequest};
use crate::Problem;

/// `POST /manage/v1/plans`: loads to plan together, one after the other.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PlanRequest {
    /// The loads.
    pub models: Vec<LoadRequest>,
}

/// Plans of several loads, and the pools before and after them.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PlanReport {
    /// A plan for each model; a plan that does not fit reserves nothing.
    pub plans: Vec<ModelPlan>,
    /// The pools, before and after the loads that fit.
    pub pools: Vec<PoolPlan>,
}

/// A pool before and after the loads of a plan.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PoolPlan {
    /// Its name.
    pub name: String,
    /// Most bytes that can be reserved.
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
    /// Load settings. Absent fields of a loaded model stay as they are; otherwise the model's defaults apply.
    #[serde(default)]
    pub settings: SettingsRequest,
    /// Settings of a loaded model to set back to the model's defaults.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub reset: Vec<SettingName>,
    /// Number of instances; by default the present number, at least one. Instances of a variant share its weights in
    /// host memory.
    #[serde(default, alias = "copies", skip_serializing_if = "Option::is_none")]
    pub instances: Option<u32>,
}

impl LoadRequest {
    /// A request that does not change the number of instances.
    #[must_use]
    pub fn of(model: impl Into<String>, settings: SettingsRequest) -> Self {
        Self { model: model.into(), settings, reset: Vec::new(), instances: None }
    }
}

/// A plan: the memory that a load needs, and whether it fits.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ModelPlan {
    /// The variant.
    pub name: String,
    /// The settings the plan is for.
    pub settings: Settings,
    /// Number of instances it is for.
    #[serde(alias = "copies")]
    pub instances: u32,
    /// The command that loads with these settings.
    pub command: String,
    /// The parts of one instance.
    pub parts: Vec<PlanPart>,
    /// Bytes of one instance.
    pub total: u64,
    /// Notes for the operator.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub notes: Vec<String>,
    /// Why it does not fit; absent when it does.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub refusal: Option<Problem>,
}

/// One part of a plan.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PlanPart {
    /// Name of the pool.
    pub pool: String,
    /// What the memory is for.
    pub part: String,
    /// Bytes.
    pub bytes: u64,
}
