//! Model files on this machine: looking at a file, telling what it is, noticing that it changed.
//!
//! Only headers are read, with bounded reads; nothing here maps a model file. What is known of a
//! file is recorded by the service.
#![forbid(unsafe_code)]

mod examine;
mod name;

pub use examine::{DepotError, Examined, FileStamp, examine, shape_of};
pub use name::{NameError, VariantName};
