//! Model files on this machine: looking at a file, telling what it is, noticing that it changed.
//!
//! Only headers are read, with bounded reads; nothing here maps a model file. What is known of a
//! file is recorded by the service.
#![forbid(unsafe_code)]

mod examine;
mod find;
mod index;
mod name;
mod store;

pub use examine::{DepotError, Examined, FileStamp, examine, shape_of};
pub use find::{Found, find_models};
pub use index::{
    INDEX_FILE, Index, IndexError, IndexedFile, IndexedModel, IndexedShape, IndexedVariant,
    Written, write_index,
};
pub use name::{NameError, VariantName};
pub use store::{
    Digest, FileRole, Health, Manifest, Progress, Store, StoreError, StoredFile, Taken, Taking,
    Usage,
};
