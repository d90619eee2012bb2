//! Runs one model: tokenizer, template, families, cache, sampling, lanes. Without network and database.
//!
//! [`Model::open`] maps and checks a file. [`process::serve`] is the main loop of an engine process, which answers calls over a
//! link. [`facts`] and [`families::shape`] describe a model from the header of its file alone, for processes that must not map
//! it.

pub mod baton;
mod cache;
mod compute;
pub mod confine;
mod constraint;
pub mod facts;
pub mod families;
mod lane;
mod layer_memory;
mod layers;
mod load_error;
#[expect(unsafe_code, reason = "maps model files and memory")]
mod mapped;
mod model;
pub mod output;
pub mod process;
mod sampling;
mod stops;
mod template;
pub mod tokenizer;

pub use compute::ComputeSettings;
pub use lane::CallError;
pub use layer_memory::{LayerMemory, OutOfMemory};
pub use load_error::LoadError;
pub use model::Model;
pub use template::{Rendered, Template, TemplateError};
