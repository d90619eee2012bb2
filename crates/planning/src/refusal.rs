//! Why a load does not fit, and what would make it fit.

use std::fmt;

use thiserror::Error;

use crate::{Bytes, LoadSettings, Placement, RequestedPlace};

/// An instance that holds memory.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Holder {
    /// The variant, as operators write it.
    pub name: String,
    /// What it holds, its share of weights included.
    pub bytes: Bytes,
    /// Whether it could be unloaded now.
    pub idle: bool,
}

/// What there is too little of.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Shortage {
    /// Memory of a pool.
    Memory {
        /// The pool.
        pool: String,
        /// What the load needs beyond what it shares with instances already there.
        need: Bytes,
        /// Free memory.
        free: Bytes,
        /// The pool's limit.
        limit: Bytes,
        /// How much more than the limit is promised, after that was lowered.
        excess: Bytes,
    },
    /// Instances.
    Instances {
        /// Most at once.
        most: usize,
    },
}

/// A change that would make a refused load fit.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum WayOut {
    /// Loading it otherwise.
    Settings {
        /// The settings then.
        settings: LoadSettings,
        /// The demand then, in all pools.
        need: Bytes,
    },
    /// Placing its layers otherwise.
    Places {
        /// The places then.
        places: Placement,
        /// The demand then, in all pools.
        need: Bytes,
    },
    /// Unloading idle instances.
    Unload {
        /// Which.
        names: Vec<String>,
        /// What that frees.
        frees: Bytes,
    },
    /// Raising the pool's limit.
    RaiseLimit {
        /// The pool.
        pool: String,
        /// The least limit that would do.
        to: Bytes,
    },
}

/// A load that does not fit, with all an operator needs to decide what to do.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub struct Refusal {
    /// The variant that was to be loaded.
    pub name: String,
    /// How it was to be loaded.
    pub settings: LoadSettings,
    /// Where its layers were requested.
    pub places: Vec<RequestedPlace>,
    /// What there is too little of.
    pub shortage: Shortage,
    /// Who holds it, largest first.
    pub holders: Vec<Holder>,
    /// What would make it fit, cheapest first; empty where nothing would now.
    pub ways_out: Vec<WayOut>,
}

impl fmt::Display for Refusal {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let name = &self.name;
        match &self.shortage {
            Shortage::Memory { pool, need, free, limit, excess } => {
                write!(f, "`{name}` needs {need} of pool `{pool}`; {free} of {limit} free")?;
                if *excess > Bytes(0) {
                    write!(f, ", {excess} more than its limit are reserved")?;
                }
            }
            Shortage::Instances { most } => {
                write!(f, "`{name}` would exceed the limit of {most} loaded instances")?;
            }
        }
        for (at, holder) in self.holders.iter().enumerate() {
            f.write_str(if at == 0 { ", held by " } else { ", " })?;
            write!(f, "`{}` {}", holder.name, holder.bytes)?;
        }
        Ok(())
    }
}
