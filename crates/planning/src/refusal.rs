//! The refusal of a load that does not fit, with the changes that would make it fit.

use std::fmt;

use thiserror::Error;

use crate::{Bytes, LoadSettings, Placement, RequestedPlace};

/// An instance that holds memory.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Holder {
    /// The variant, as operators write it.
    pub name: String,
    /// Its memory, including its share of the weights.
    pub bytes: Bytes,
    /// Whether it can be unloaded now.
    pub idle: bool,
}

/// The exhausted resource.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Shortage {
    /// Memory of a pool.
    Memory {
        /// The pool.
        pool: String,
        /// Memory that the load needs, without memory shared with loaded instances.
        need: Bytes,
        /// Free memory.
        free: Bytes,
        /// The pool's limit.
        limit: Bytes,
        /// Memory reserved beyond the limit, after the limit was lowered.
        excess: Bytes,
    },
    /// Instances.
    Instances {
        /// The limit.
        most: usize,
    },
}

/// A change that would make a refused load fit.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum WayOut {
    /// Loading with other settings.
    Settings {
        /// The settings.
        settings: LoadSettings,
        /// The demand in all pools.
        need: Bytes,
    },
    /// Other places of the layers.
    Places {
        /// The places.
        places: Placement,
        /// The demand in all pools.
        need: Bytes,
    },
    /// Unloading idle instances.
    Unload {
        /// The instances.
        names: Vec<String>,
        /// The memory that becomes free.
        frees: Bytes,
    },
    /// Raising the pool's limit.
    RaiseLimit {
        /// The pool.
        pool: String,
        /// The least sufficient limit.
        to: Bytes,
    },
}

/// The refusal of a load, with all that an operator needs for a decision.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub struct Refusal {
    /// The requested variant.
    pub name: String,
    /// The requested settings.
    pub settings: LoadSettings,
    /// The requested places of its layers.
    pub places: Vec<RequestedPlace>,
    /// The exhausted resource.
    pub shortage: Shortage,
    /// The instances that use it, the largest first.
    pub holders: Vec<Holder>,
    /// Changes that would make it fit, the cheapest first; empty if there are none.
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
