//! Memory plans and admission: the memory that a load needs, whether it fits, and what uses the memory if it does not.
//!
//! This crate uses no clock, files or processes. The service plans before it starts an engine process, and the command line
//! shows the same plan before the operator waits.
#![forbid(unsafe_code)]

pub mod baton;
mod bytes;
mod choice;
mod demand;
#[cfg(test)]
mod fixture;
mod ledger;
mod placement;
pub mod prompt_speed;
pub mod queue;
mod refusal;

pub use bytes::Bytes;
pub use choice::{Unused, least_valuable_first};
pub use demand::{
    Amount, CacheType, Demand, LoadSettings, ModelShape, PAGE_TOKENS, Part, PartKind, SPAN_TOKENS,
    SettingsError, Weights, usual_chunk,
};
pub use ledger::{Candidate, Denial, Grant, Ledger, NoSuchPool, Pool, PoolReport};
pub use placement::{HOST, Place, Placement, PlacementError, RequestedPlace, Share};
pub use refusal::{Holder, Refusal, Shortage, WayOut};
