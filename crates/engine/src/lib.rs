//! Runs one model: tokens, template, families, cache, sampling, lanes. No network, no database.
//!
//! [`Model::open`] maps a file and checks it; [`process::serve`] is the life of an engine process,
//! answering calls that come over a link. [`facts`] and [`families::shape`] tell about a file from
//! its header alone, for those who must not map it.

pub mod baton;
mod cache;
mod compute;
pub mod confine;
pub mod facts;
pub mod families;
mod lane;
mod layer_memory;
mod layers;
mod load_error;
#[expect(unsafe_code, reason = "maps model files and memory")]
mod mapped;
mod model;
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
