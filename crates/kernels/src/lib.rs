//! Arithmetic on rows of numbers, without any knowledge of models: the operations of a [`Device`].
//!
//! All sums have one documented order (see `matrix` and `attention`), so that a result depends neither on the path within
//! a class nor on the number of tokens that are computed together.
#![expect(
    unsafe_code,
    reason = "vector instructions, each with a scalar twin, and a team of threads"
)]

mod attention;
pub mod choice;
mod curve;
mod device;
#[cfg(target_arch = "x86_64")]
mod dots;
mod instructions;
mod large;
pub mod limits;
mod matrix;
mod pointwise;
#[cfg(target_arch = "x86_64")]
mod prefetch;
pub mod processors;
mod sixteen;
mod team;
mod tiles;

pub(crate) use instructions::on_every_path;

pub use attention::{Cached, Kind, Look, PAGE, SPAN};
pub use device::{
    CacheRows, Chosen, Destination, Device, Host, HostPages, Looks, Norm, Product, Routing,
};
pub use instructions::{Class, Instructions};
pub use limits::memory_speed;
pub use matrix::{HostMemory, Matrix, Stored};
pub use pointwise::{GateCurve, Pairs, largest, softmax, sum};
pub use team::Team;

use large::in_large_pages;

/// Parts of operations, for measurements.
#[doc(hidden)]
pub mod parts {
    pub use crate::attention::{Attention, SpanSums, attend};
    pub use crate::matrix::{Activations, multiply};
}
