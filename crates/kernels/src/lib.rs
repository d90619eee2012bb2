//! Arithmetic on rows of numbers, without any knowledge of models.
//!
//! Everything sums in one stated order (see [`dot`]), so that a result depends neither on the
//! processor path chosen at start nor on how many tokens are computed together.

mod activations;
mod attention;
#[expect(unsafe_code, reason = "vector instructions, each with a scalar twin")]
pub mod dot;
mod matrix;
mod memory;
mod path;
mod pointwise;

pub use activations::Activations;
pub use attention::{AttentionScratch, Looking, PagedRows, attend, store_row};
pub use matrix::{Matrix, multiply};
pub use memory::memory_speed;
pub use path::Path;
pub use pointwise::{Gate, add, add_rows, gate, gelu_erf, layer_norm, rms_norm, soft_cap, softmax};
