//! Arithmetic on rows of numbers, without any knowledge of models.
//!
//! Everything sums in one stated order (see `matrix` and `attention`), so that a result depends neither on
//! which processor path of a class is chosen at start nor on how many tokens are computed together.
#![expect(
    unsafe_code,
    reason = "vector instructions, each with a scalar twin, and a team of threads"
)]

#[cfg(target_arch = "x86_64")]
mod ahead;
mod attention;
pub mod choice;
mod curve;
#[cfg(target_arch = "x86_64")]
mod dots;
mod large;
pub mod limits;
mod matrix;
mod path;
mod pointwise;
pub mod processors;
mod sixteen;
mod team;
mod tiles;

pub(crate) use path::on_every_path;

pub use attention::{Attention, Cached, Kind, Look, PAGE, SPAN, SpanSums, attend};
pub use large::in_large_pages;
pub use limits::memory_speed;
pub use matrix::{Activations, Matrix, dot, multiply, multiply_all};
pub use path::{Class, Path};
pub use pointwise::{
    Gate, add, add_rows, add_scaled, gate, gelu_erf, largest, layer_norm, rms_norm, soft_cap,
    softmax, sum,
};
pub use team::Team;
