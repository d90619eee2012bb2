//! Why a load does not fit, and what would make it fit.

use std::fmt;

use thiserror::Error;

use crate::{Bytes, LoadSettings};

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

/// A change that would make a refused load fit.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum WayOut {
    /// Loading it otherwise.
    Settings {
        /// The settings then.
        settings: LoadSettings,
        /// The demand then.
        need: Bytes,
    },
    /// Unloading what is idle.
    Unload {
        /// Which.
        names: Vec<String>,
        /// What that frees.
        frees: Bytes,
    },
    /// Raising the pool's limit.
    RaiseLimit {
        /// The least limit that would do.
        to: Bytes,
    },
}

/// A load that does not fit, with all an operator needs to decide what to do.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error("`{name}` needs {need} in pool `{pool}`; {free} of {limit} is free{}", holders_text(.holders))]
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
    /// What would make it fit, cheapest first; never empty.
    pub ways_out: Vec<WayOut>,
}

struct Held<'a>(&'a [Holder]);

fn holders_text(holders: &[Holder]) -> Held<'_> {
    Held(holders)
}

impl fmt::Display for Held<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (at, holder) in self.0.iter().enumerate() {
            f.write_str(if at == 0 { ", held by " } else { ", " })?;
            write!(f, "`{}` {}", holder.name, holder.bytes)?;
        }
        Ok(())
    }
}
