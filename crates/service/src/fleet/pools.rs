//! The pools: their limits, reserved and measured memory, and the simulated accelerators.

use std::collections::BTreeMap;
use std::path::Path;

use deft_planning::{Amount, Bytes, Grant, HOST, Ledger};
use deft_protocol::engine::{AcceleratorOrder, PlaceOrder};
use deft_protocol::manage::{Pool, PoolUse};
use uuid::Uuid;

use super::instance::Instance;
use super::memory::Measured;
use crate::config::{self, Accelerator, ConfigError};
use crate::loading::processor::Computing;

/// What there is to load into.
#[derive(Debug, Clone)]
pub(crate) struct Machine {
    /// Memory of the machine that may be used.
    pub(crate) usable: Bytes,
    /// Most of it that instances may hold together.
    pub(crate) host_limit: Bytes,
    /// Simulated accelerators.
    pub(crate) accelerators: Vec<Accelerator>,
    /// Most instances at once.
    pub(crate) max_instances: Option<usize>,
    /// What engines compute with.
    pub(crate) computing: Computing,
}

impl Machine {
    /// Empty pools.
    pub(super) fn ledger(&self) -> Ledger<Uuid> {
        let host = deft_planning::Pool {
            name: HOST.to_owned(),
            limit: self.host_limit,
            size: self.usable,
        };
        let others = self.accelerators.iter().map(|found| deft_planning::Pool {
            name: found.name.clone(),
            limit: found.limit,
            size: found.size,
        });
        Ledger::new(std::iter::once(host).chain(others).collect(), self.max_instances)
    }

    fn accelerator(&self, pool: &str) -> Option<&Accelerator> {
        self.accelerators.iter().find(|found| found.name == pool)
    }

    pub(crate) fn is_simulated(&self, pool: &str) -> bool {
        self.accelerator(pool).is_some()
    }

    /// A new limit of a pool, as an operator writes it.
    pub(super) fn limit(&self, pool: &str, text: &str) -> Result<Bytes, ConfigError> {
        let size = self.accelerator(pool).map_or(self.usable, |found| found.size);
        config::limit(&format!("the limit of pool `{pool}`"), text, size)
    }

    /// Where an engine process puts its layers. An accelerator is found with what other programs and
    /// `others` hold of it.
    pub(super) fn places<'a>(
        &self,
        grant: &Grant,
        others: impl Iterator<Item = &'a Grant> + Clone,
    ) -> Vec<PlaceOrder> {
        let place = |place: &deft_planning::Place| PlaceOrder {
            pool: place.pool.clone(),
            layers: place.layers,
            accelerator: self.accelerator(&place.pool).map(|found| {
                let taken: Bytes =
                    others.clone().map(|other| other.demand.amount(&place.pool).private).sum();
                AcceleratorOrder {
                    free: found.size.saturating_sub(found.held + taken).0,
                    speed: found.speed.map(|speed| speed.0),
                }
            }),
        };
        grant.placement.0.iter().map(place).collect()
    }

    /// State of the pools.
    pub(super) fn report<'a>(
        &self,
        ledger: &Ledger<Uuid>,
        instances: impl Iterator<Item = &'a Instance>,
    ) -> Vec<Pool> {
        let measured = measured(instances);
        ledger
            .reports()
            .into_iter()
            .map(|pool| Pool {
                measured: measured.get(&pool.name).copied().unwrap_or(0),
                simulated: self.is_simulated(&pool.name),
                speed: self.accelerator(&pool.name).and_then(|found| found.speed).map(|s| s.0),
                name: pool.name,
                limit: pool.limit.0,
                reserved: pool.reserved.0,
            })
            .collect()
    }
}

/// Measured bytes of all pools; resident pages of a file are counted once.
fn measured<'a>(instances: impl Iterator<Item = &'a Instance>) -> BTreeMap<String, u64> {
    let mut pools: BTreeMap<String, u64> = BTreeMap::new();
    let mut files: BTreeMap<&Path, u64> = BTreeMap::new();
    for instance in instances {
        let Some(measured) = &instance.measured else {
            continue;
        };
        *pools.entry(HOST.to_owned()).or_default() += measured.private;
        let file = files.entry(instance.target.path()).or_default();
        *file = (*file).max(measured.file);
        for (pool, bytes) in &measured.accelerators {
            *pools.entry(pool.clone()).or_default() += bytes;
        }
    }
    *pools.entry(HOST.to_owned()).or_default() += files.into_values().sum::<u64>();
    pools
}

/// What an instance holds of each pool that it uses.
pub(super) fn held(grant: &Grant, measured: Option<&Measured>) -> Vec<PoolUse> {
    let mut pools: Vec<&str> = Vec::new();
    for part in &grant.demand.parts {
        if !pools.contains(&part.pool.as_str()) {
            pools.push(&part.pool);
        }
    }
    let of_pool = |pool: &str, measured: &Measured| match pool {
        HOST => measured.private + measured.file,
        name => measured.accelerators.get(name).copied().unwrap_or(0),
    };
    let in_use = |pool: &str| {
        let Amount { shared, private } = grant.demand.amount(pool);
        PoolUse {
            pool: pool.to_owned(),
            reserved: (shared + private).0,
            measured: measured.map(|measured| of_pool(pool, measured)),
        }
    };
    pools.into_iter().map(in_use).collect()
}
