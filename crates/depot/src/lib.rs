//! Model files on this machine: looking at a file, telling what it is, noticing that it changed.
//!
//! Only headers are read, with bounded reads, wherever a [`headers::HeaderReader`] reads them; nothing here
//! maps a model file. The service records the facts of each file.
#![forbid(unsafe_code)]

mod checkpoint;
mod examine;
mod find;
pub mod headers;
mod index;
mod keyed_locks;
mod name;
mod named;
mod remote;
mod sources;
mod store;

pub use examine::{
    DepotError, Examined, FileStamp, examine, examine_stored, examine_with, open_model,
    open_projector, open_stored_template, open_template, shape_of,
};
pub use find::{Found, find_models};
pub use index::{
    INDEX_FILE, Index, IndexError, IndexedFile, IndexedModel, IndexedShape, IndexedVariant,
    Written, write_index,
};
pub use name::{NameError, VariantName, most_alike};
pub use named::{NamedFile, NamedFileError};
pub use remote::{
    Access, Address, RateLimit, RemoteError, RemoteFile, Secret, Tell, Wanted, Watching, Web,
    WebSettings,
};
pub use sources::{
    About, Content, Finder, GitBlob, Listing, Location, Looked, Offer, OfferedFile, Reference,
    ReferenceError, Source, SourceError,
};
pub use store::{
    Digest, Faults, FileRole, Health, Manifest, MovedSource, NotUnderstood, Origin, Progress,
    Relinked, Store, StoreError, StoredFile, Taken, Taking, Usage, digest_of_file, identity,
};
