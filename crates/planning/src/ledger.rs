//! The ledger: reserved memory of each pool, by instance. No reservation raises a pool above its limit.

use std::collections::{BTreeMap, BTreeSet};

use thiserror::Error;

use crate::demand::{Amount, layer_cache};
use crate::refusal::{Holder, Refusal, Shortage};
use crate::{Bytes, Demand, LoadSettings, ModelShape, Placement, PlacementError, RequestedPlace};

mod ways;

/// A load to plan.
#[derive(Debug, Clone, Copy)]
pub struct Candidate<'a> {
    /// The variant, as operators write it.
    pub name: &'a str,
    /// Identifies the weights, which instances of the same file share.
    pub file: &'a str,
    /// The model's sizes.
    pub shape: &'a ModelShape,
    /// Load settings.
    pub settings: &'a LoadSettings,
    /// Requested places of its layers; host memory by default.
    pub places: &'a [RequestedPlace],
}

/// A load with its places and its memory.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Grant {
    /// Places of its layers.
    pub placement: Placement,
    /// Memory that it needs.
    pub demand: Demand,
}

/// Why a load is refused.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum Denial {
    /// Its places are invalid.
    #[error(transparent)]
    Places(#[from] PlacementError),
    /// There is not enough memory.
    #[error(transparent)]
    Room(#[from] Box<Refusal>),
}

/// A pool that does not exist.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error(transparent)]
pub struct NoSuchPool(PlacementError);

/// State of a pool.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PoolReport {
    /// Name.
    pub name: String,
    /// Its limit.
    pub limit: Bytes,
    /// Reserved memory; more than the limit if the limit was lowered.
    pub reserved: Bytes,
}

/// Configuration of a pool.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Pool {
    /// Name.
    pub name: String,
    /// Limit of all reservations together.
    pub limit: Bytes,
    /// Existing memory: the highest possible limit.
    pub size: Bytes,
}

#[derive(Debug, Clone)]
struct Hold {
    name: String,
    file: String,
    /// In the order of the pools.
    amounts: Vec<Amount>,
}

/// Reserved memory of each pool. `Id` is the id of an instance; weights are shared by file.
#[derive(Debug, Clone)]
pub struct Ledger<Id> {
    /// Host memory first.
    pools: Vec<Pool>,
    /// Most instances at once.
    most: Option<usize>,
    holds: BTreeMap<Id, Hold>,
}

impl<Id: Ord + Copy> Ledger<Id> {
    /// Empty pools, host memory first; `most` instances at once.
    #[must_use]
    pub fn new(pools: Vec<Pool>, most: Option<usize>) -> Self {
        Self { pools, most, holds: BTreeMap::new() }
    }

    /// State of all pools.
    #[must_use]
    pub fn reports(&self) -> Vec<PoolReport> {
        let report = |(at, pool): (usize, &Pool)| PoolReport {
            name: pool.name.clone(),
            limit: pool.limit,
            reserved: self.reserved(at),
        };
        self.pools.iter().enumerate().map(report).collect()
    }

    /// Changes a pool's limit, and returns the former limit. Loaded instances stay; new loads wait until there is enough
    /// memory.
    ///
    /// # Errors
    /// There is no such pool.
    pub fn set_limit(&mut self, pool: &str, limit: Bytes) -> Result<Bytes, NoSuchPool> {
        let at = self.find(pool)?;
        Ok(std::mem::replace(&mut self.pools[at].limit, limit))
    }

    /// State of a pool.
    ///
    /// # Errors
    /// There is no such pool.
    pub fn report(&self, pool: &str) -> Result<PoolReport, NoSuchPool> {
        let at = self.find(pool)?;
        let Pool { name, limit, .. } = self.pools[at].clone();
        Ok(PoolReport { name, limit, reserved: self.reserved(at) })
    }

    fn find(&self, pool: &str) -> Result<usize, NoSuchPool> {
        let at = self.pools.iter().position(|known| known.name == pool);
        at.ok_or_else(|| {
            NoSuchPool(PlacementError::NoSuchPool { pool: pool.to_owned(), known: self.names() })
        })
    }

    fn names(&self) -> Vec<String> {
        self.pools.iter().map(|pool| pool.name.clone()).collect()
    }

    fn reserved(&self, pool: usize) -> Bytes {
        let mut files: BTreeMap<&str, Bytes> = BTreeMap::new();
        for hold in self.holds.values() {
            let shared = files.entry(&hold.file).or_default();
            *shared = (*shared).max(hold.amounts[pool].shared);
        }
        let private: Bytes = self.holds.values().map(|hold| hold.amounts[pool].private).sum();
        private + files.into_values().sum()
    }

    fn free(&self, pool: usize) -> Bytes {
        self.pools[pool].limit.saturating_sub(self.reserved(pool))
    }

    /// Memory that a load needs in a pool, without weights that it shares with loaded instances.
    fn need(&self, pool: usize, file: &str, demand: &Demand) -> Bytes {
        let amount = demand.amount(&self.pools[pool].name);
        let of_file = self.holds.values().filter(|hold| hold.file == file);
        let there = of_file.map(|hold| hold.amounts[pool].shared).max().unwrap_or_default();
        amount.private + amount.shared.saturating_sub(there)
    }

    /// The first pool without enough memory, with the memory needed there.
    fn lacking(&self, file: &str, demand: &Demand) -> Option<(usize, Bytes)> {
        let needs = (0..self.pools.len()).map(|pool| (pool, self.need(pool, file, demand)));
        needs.into_iter().find(|&(pool, need)| need > self.free(pool))
    }

    fn is_full(&self) -> bool {
        self.most.is_some_and(|most| self.holds.len() >= most)
    }

    /// Places and memory of a load, whether or not it fits.
    ///
    /// # Errors
    /// The places are invalid.
    pub fn plan(&self, wanted: Candidate<'_>) -> Result<Grant, PlacementError> {
        let Candidate { shape, settings, places, .. } = wanted;
        let cache = if shape.encoder { Bytes(0) } else { layer_cache(shape, settings) };
        let fitting = |name: &str, from: u32| {
            let at = self.pools.iter().position(|pool| pool.name == name).unwrap_or_default();
            let mut free = self.free(at);
            let sizes =
                shape.layer_weights.iter().skip(from as usize).map(|stored| *stored + cache);
            let fits = sizes.take_while(|size| {
                let room = *size <= free;
                free = free.saturating_sub(*size);
                room
            });
            u32::try_from(fits.count()).unwrap_or(u32::MAX)
        };
        let placement = Placement::of(places, shape.placeable(), &self.names(), fitting)?;
        let demand = Demand::of(shape, settings, &placement);
        Ok(Grant { placement, demand })
    }

    /// The grant, if it fits.
    fn fits(&self, wanted: Candidate<'_>) -> Option<Grant> {
        let grant = self.plan(wanted).ok()?;
        let room = !self.is_full() && self.lacking(wanted.file, &grant.demand).is_none();
        room.then_some(grant)
    }

    /// Whether a load would fit; reserves nothing. `idle` are the instances that could be unloaded.
    ///
    /// # Errors
    /// The refusal with its figures and ways out, or invalid places.
    pub fn judge(&self, wanted: Candidate<'_>, idle: &BTreeSet<Id>) -> Result<Grant, Denial> {
        let grant = self.plan(wanted)?;
        if let Some(most) = self.most.filter(|_| self.is_full()) {
            return Err(self.refusal(wanted, Shortage::Instances { most }, 0, idle).into());
        }
        let Some((pool, need)) = self.lacking(wanted.file, &grant.demand) else {
            return Ok(grant);
        };
        let shortage = Shortage::Memory {
            pool: self.pools[pool].name.clone(),
            need,
            free: self.free(pool),
            limit: self.pools[pool].limit,
            excess: self.reserved(pool).saturating_sub(self.pools[pool].limit),
        };
        Err(self.refusal(wanted, shortage, pool, idle).into())
    }

    /// Reserves memory for an instance.
    ///
    /// # Errors
    /// The refusal; then nothing is reserved.
    pub fn reserve(
        &mut self,
        id: Id,
        wanted: Candidate<'_>,
        idle: &BTreeSet<Id>,
    ) -> Result<Grant, Denial> {
        let grant = self.judge(wanted, idle)?;
        let hold = Hold {
            name: wanted.name.to_owned(),
            file: wanted.file.to_owned(),
            amounts: self.pools.iter().map(|pool| grant.demand.amount(&pool.name)).collect(),
        };
        self.holds.insert(id, hold);
        Ok(grant)
    }

    /// The instances of `order` (least valuable first) that must be unloaded so that a load fits: an empty list if it fits
    /// already, `None` if unloading all of them is not enough. An instance whose unloading turns out unnecessary stays.
    #[must_use]
    pub fn evictions(&self, wanted: Candidate<'_>, order: &[Id]) -> Option<Vec<Id>> {
        let fits = |gone: &[Id]| self.without(gone).fits(wanted).is_some();
        let count = (0..=order.len()).find(|&count| fits(&order[..count]))?;
        let mut gone = order[..count].to_vec();
        for &id in order[..count].iter().rev() {
            let without: Vec<Id> = gone.iter().copied().filter(|&other| other != id).collect();
            if fits(&without) {
                gone = without;
            }
        }
        Some(gone)
    }

    /// A copy of the ledger without some instances.
    fn without(&self, gone: &[Id]) -> Self {
        let mut after = self.clone();
        gone.iter().for_each(|&id| after.release(id));
        after
    }

    /// Releases the memory of an instance, if it has any.
    pub fn release(&mut self, id: Id) {
        self.holds.remove(&id);
    }

    fn refusal(
        &self,
        wanted: Candidate<'_>,
        shortage: Shortage,
        pool: usize,
        idle: &BTreeSet<Id>,
    ) -> Box<Refusal> {
        Box::new(Refusal {
            name: wanted.name.to_owned(),
            settings: *wanted.settings,
            places: wanted.places.to_vec(),
            holders: self.holders(pool, idle),
            ways_out: self.ways_out(wanted, &shortage, pool, idle),
            shortage,
        })
    }

    fn holders(&self, pool: usize, idle: &BTreeSet<Id>) -> Vec<Holder> {
        let bytes = |hold: &Hold| hold.amounts[pool].private + hold.amounts[pool].shared;
        let mut holders: Vec<Holder> = self
            .holds
            .iter()
            .map(|(id, hold)| Holder {
                name: hold.name.clone(),
                bytes: bytes(hold),
                idle: idle.contains(id),
            })
            .filter(|holder| holder.bytes > Bytes(0))
            .collect();
        holders.sort_by(|a, b| b.bytes.cmp(&a.bytes).then_with(|| a.name.cmp(&b.name)));
        holders
    }
}

#[cfg(test)]
mod model_tests;
#[cfg(test)]
mod tests;
