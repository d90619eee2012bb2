//! The ledger: who holds how much of each pool. No grant raises a pool above its limit.

use std::collections::{BTreeMap, BTreeSet};

use crate::refusal::{Holder, Refusal, WayOut};
use crate::{Bytes, CacheType, Demand, LoadSettings, ModelShape};

/// Something that is to be loaded.
#[derive(Debug, Clone, Copy)]
pub struct Candidate<'a> {
    /// The variant, as operators write it.
    pub name: &'a str,
    /// Stands for the weights that instances of it share.
    pub file: &'a str,
    /// The model's sizes.
    pub shape: &'a ModelShape,
    /// How it is to be loaded.
    pub settings: &'a LoadSettings,
}

impl Candidate<'_> {
    fn demand(&self) -> Demand {
        Demand::of(self.shape, self.settings)
    }
}

/// A pool as it stands.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PoolReport {
    /// Name.
    pub name: String,
    /// Its limit.
    pub limit: Bytes,
    /// What is promised to instances.
    pub reserved: Bytes,
}

#[derive(Debug, Clone)]
struct Hold {
    name: String,
    file: String,
    shared: Bytes,
    private: Bytes,
}

/// Who holds how much of one pool. `Id` names an instance, a file stands for shared weights.
#[derive(Debug, Clone)]
pub struct Ledger<Id> {
    pool: String,
    limit: Bytes,
    holds: BTreeMap<Id, Hold>,
}

impl<Id: Ord + Copy> Ledger<Id> {
    /// An empty pool.
    #[must_use]
    pub fn new(pool: impl Into<String>, limit: Bytes) -> Self {
        Self { pool: pool.into(), limit, holds: BTreeMap::new() }
    }

    /// The pool with its limit and what is reserved.
    #[must_use]
    pub fn report(&self) -> PoolReport {
        PoolReport { name: self.pool.clone(), limit: self.limit, reserved: self.reserved() }
    }

    fn reserved(&self) -> Bytes {
        let mut files = BTreeMap::new();
        for hold in self.holds.values() {
            let shared: &mut Bytes = files.entry(&hold.file).or_default();
            *shared = (*shared).max(hold.shared);
        }
        let private: Bytes = self.holds.values().map(|hold| hold.private).sum();
        private + files.into_values().sum()
    }

    fn free(&self) -> Bytes {
        self.limit.saturating_sub(self.reserved())
    }

    fn need(&self, file: &str, demand: &Demand) -> Bytes {
        let there = self.holds.values().any(|hold| hold.file == file);
        if there { demand.private() } else { demand.total() }
    }

    /// Whether a load would fit, without reserving anything. `idle` tells which instances could
    /// be unloaded.
    ///
    /// # Errors
    /// The refusal with its figures and ways out.
    pub fn judge(
        &self,
        wanted: Candidate<'_>,
        idle: &BTreeSet<Id>,
    ) -> Result<Demand, Box<Refusal>> {
        let demand = wanted.demand();
        let need = self.need(wanted.file, &demand);
        let free = self.free();
        if need <= free {
            return Ok(demand);
        }
        Err(Box::new(Refusal {
            name: wanted.name.to_owned(),
            pool: self.pool.clone(),
            need,
            free,
            limit: self.limit,
            holders: self.holders(idle),
            ways_out: self.ways_out(wanted, free, idle),
        }))
    }

    /// Reserves memory for an instance.
    ///
    /// # Errors
    /// The refusal; nothing is reserved then.
    pub fn reserve(
        &mut self,
        id: Id,
        wanted: Candidate<'_>,
        idle: &BTreeSet<Id>,
    ) -> Result<Demand, Box<Refusal>> {
        let demand = self.judge(wanted, idle)?;
        let hold = Hold {
            name: wanted.name.to_owned(),
            file: wanted.file.to_owned(),
            shared: demand.shared(),
            private: demand.private(),
        };
        self.holds.insert(id, hold);
        Ok(demand)
    }

    /// Which of the instances `order` (the least valuable first) have to go so that a load fits: none
    /// where it fits already, no answer where even all of them would not do. Whoever need not go after
    /// all stays.
    #[must_use]
    pub fn make_room(&self, wanted: Candidate<'_>, order: &[Id]) -> Option<Vec<Id>> {
        let fits = |gone: &[Id]| {
            let mut after = self.clone();
            gone.iter().for_each(|&id| after.release(id));
            after.need(wanted.file, &wanted.demand()) <= after.free()
        };
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

    /// Gives back what an instance held; harmless if it held nothing.
    pub fn release(&mut self, id: Id) {
        self.holds.remove(&id);
    }

    fn holders(&self, idle: &BTreeSet<Id>) -> Vec<Holder> {
        let mut holders: Vec<Holder> = self
            .holds
            .iter()
            .map(|(id, hold)| Holder {
                name: hold.name.clone(),
                bytes: hold.private + hold.shared,
                idle: idle.contains(id),
            })
            .collect();
        holders.sort_by(|a, b| b.bytes.cmp(&a.bytes).then_with(|| a.name.cmp(&b.name)));
        holders
    }

    fn ways_out(&self, wanted: Candidate<'_>, free: Bytes, idle: &BTreeSet<Id>) -> Vec<WayOut> {
        let mut ways = self.other_settings(wanted, free);
        ways.extend(self.unloading(wanted, idle));
        if ways.is_empty() {
            let to = self.reserved() + self.need(wanted.file, &wanted.demand());
            ways.push(WayOut::RaiseLimit { to });
        }
        ways
    }

    /// Settings under which it would fit: one changed, or where that does not do, several.
    fn other_settings(&self, wanted: Candidate<'_>, free: Bytes) -> Vec<WayOut> {
        let Candidate { file, shape, settings, .. } = wanted;
        let need = |settings: &LoadSettings| self.need(file, &Demand::of(shape, settings));
        let fits = |settings: &LoadSettings| need(settings) <= free;
        let way = |settings: LoadSettings| {
            let need = need(&settings);
            WayOut::Settings { settings, need }
        };
        let narrow = LoadSettings { keys: CacheType::Q8_0, values: CacheType::Q8_0, ..*settings };
        let narrow =
            Some(narrow).filter(|narrow| narrow != settings && narrow.check(shape).is_ok());
        let mut ways = Vec::new();
        ways.extend(narrow.filter(fits).map(way));
        let shorter = largest_context(settings, fits);
        ways.extend(shorter.map(way));
        let lanes = (1..settings.lanes).rev().map(|lanes| LoadSettings { lanes, ..*settings });
        ways.extend(lanes.into_iter().find(fits).map(way));
        if ways.is_empty() {
            let least = LoadSettings { lanes: 1, ..narrow.unwrap_or(*settings) };
            let least = if fits(&least) { Some(least) } else { largest_context(&least, fits) };
            ways.extend(least.map(way));
        }
        ways
    }

    /// Idle instances whose unloading would do: each that does alone, or as few as do together.
    fn unloading(&self, wanted: Candidate<'_>, idle: &BTreeSet<Id>) -> Vec<WayOut> {
        let reserved = self.reserved();
        let without = |ids: &[Id]| {
            let mut after = self.clone();
            ids.iter().for_each(|&id| after.release(id));
            let fits = after.need(wanted.file, &wanted.demand()) <= after.free();
            let names =
                ids.iter().filter_map(|id| self.holds.get(id)).map(|hold| hold.name.clone());
            let frees = reserved.saturating_sub(after.reserved());
            fits.then(|| WayOut::Unload { names: names.collect(), frees })
        };
        let mut ids: Vec<Id> =
            idle.iter().copied().filter(|id| self.holds.contains_key(id)).collect();
        ids.sort_by_key(|id| std::cmp::Reverse(self.holds[id].private + self.holds[id].shared));
        let alone: Vec<WayOut> = ids.iter().filter_map(|&id| without(&[id])).collect();
        if !alone.is_empty() {
            return alone;
        }
        (2..=ids.len()).find_map(|count| without(&ids[..count])).into_iter().collect()
    }
}

/// The settings with the largest useful context (a multiple of 64, at least 256) that fits.
fn largest_context(
    settings: &LoadSettings,
    fits: impl Fn(&LoadSettings) -> bool,
) -> Option<LoadSettings> {
    let steps = (4..settings.context.div_ceil(64)).rev();
    steps.map(|steps| LoadSettings { context: steps * 64, ..*settings }).find(|found| fits(found))
}

#[cfg(test)]
mod tests;
