//! The ledger: who holds how much of each pool. No grant raises a pool above its limit.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt;

use thiserror::Error;

use crate::{Bytes, Demand, LoadSettings, ModelShape};

/// Somebody who holds memory.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Holder {
    /// The variant, as operators write it.
    pub name: String,
    /// What it holds, its share of weights included.
    pub bytes: Bytes,
    /// Whether it could be unloaded now.
    pub idle: bool,
}

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

/// A change that would make a refused load fit.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum WayOut {
    /// Fewer tokens of context.
    Context {
        /// The most that fits.
        tokens: u32,
        /// The demand then.
        need: Bytes,
    },
    /// One lane instead of several.
    OneLane {
        /// The demand then.
        need: Bytes,
    },
    /// Unloading what is idle.
    Unload {
        /// Which.
        name: String,
        /// What that frees.
        frees: Bytes,
    },
    /// Raising the pool's limit.
    RaiseLimit {
        /// The least limit that would do.
        to: Bytes,
    },
}

impl fmt::Display for WayOut {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Context { tokens, need } => {
                write!(f, "--context {tokens} (then it needs {need})")
            }
            Self::OneLane { need } => write!(f, "--lanes 1 (then it needs {need})"),
            Self::Unload { name, frees } => write!(f, "deft unload {name} (frees {frees})"),
            Self::RaiseLimit { to } => write!(f, "a limit of {to} or more for the pool"),
        }
    }
}

/// A load that does not fit, with all an operator needs to decide what to do.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error("`{name}` needs {need} in pool `{pool}`; {free} of {limit} is free{}{}",
    holders_text(.holders), ways_text(.ways_out))]
pub struct Refusal {
    /// The variant that was to be loaded.
    pub name: String,
    /// The pool.
    pub pool: String,
    /// What the load needs beyond what it shares with instances already there.
    pub need: Bytes,
    /// What is free.
    pub free: Bytes,
    /// The pool's limit.
    pub limit: Bytes,
    /// Who holds the rest, largest first.
    pub holders: Vec<Holder>,
    /// What would make it fit, cheapest first.
    pub ways_out: Vec<WayOut>,
}

fn holders_text(holders: &[Holder]) -> String {
    if holders.is_empty() {
        return String::new();
    }
    let list: Vec<String> =
        holders.iter().map(|holder| format!("`{}` {}", holder.name, holder.bytes)).collect();
    format!(", held by {}", list.join(", "))
}

fn ways_text(ways: &[WayOut]) -> String {
    if ways.is_empty() {
        return String::new();
    }
    let list: Vec<String> = ways.iter().map(ToString::to_string).collect();
    format!(". What would make it fit: {}", list.join("; "))
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
#[derive(Debug)]
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
        let free = self.limit.saturating_sub(self.reserved());
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
        let Candidate { file, shape, settings, .. } = wanted;
        let need = |settings: &LoadSettings| self.need(file, &Demand::of(shape, settings));
        let mut ways = Vec::new();
        let one_lane = LoadSettings { lanes: 1, ..*settings };
        if settings.lanes > 1 && need(&one_lane) <= free {
            ways.push(WayOut::OneLane { need: need(&one_lane) });
        }
        if let Some(tokens) = largest_context(settings, |settings| need(settings) <= free) {
            let smaller = LoadSettings { context: tokens, ..*settings };
            ways.push(WayOut::Context { tokens, need: need(&smaller) });
        }
        let wanted = need(settings);
        for holder in self.holders(idle).into_iter().filter(|holder| holder.idle) {
            if free + holder.bytes >= wanted {
                ways.push(WayOut::Unload { name: holder.name, frees: holder.bytes });
            }
        }
        if ways.is_empty() {
            ways.push(WayOut::RaiseLimit { to: self.reserved() + wanted });
        }
        ways
    }
}

/// The largest useful context (a multiple of 64, at least 256) for which `fits` holds.
fn largest_context(settings: &LoadSettings, fits: impl Fn(&LoadSettings) -> bool) -> Option<u32> {
    let mut candidates = (4..settings.context.div_ceil(64)).rev().map(|steps| steps * 64);
    candidates.find(|&context| fits(&LoadSettings { context, ..*settings }))
}

#[cfg(test)]
mod tests;
