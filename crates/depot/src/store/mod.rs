//! The depot's own files: content under its digest, and every file under its own name beside it.
//!
//! ```text
//! depot.json                                 the depot's identity
//! objects/sha256/ab/cdef…                    content, written once, never changed
//! models/<model>/<variant>/<file name>       a hard link to it (else a symbolic one)
//! models/<model>/<variant>/.deft-variant.json  what belongs to the variant
//! incoming/…                                 files that are being written; nothing here is ever listed
//! ```
//!
//! A variant is laid out in `incoming` and appears by one rename of its folder; it goes by a rename of its
//! folder into `incoming`. So whatever breaks off in between leaves files in `incoming`, and those are
//! swept away at the next start. Nothing else is: what stands under `models` and is not understood stays
//! there, and so does all content that it may hold.

mod changes;
mod digest;
mod disk;
mod error;
mod export;
mod files;
mod identity;
mod intake;
mod manifest;
mod shelf;
mod space;
mod sweep;
mod unfinished;

pub use changes::Relinked;
pub(crate) use digest::digest_of;
pub use digest::{Digest, Progress, digest_of_file};
pub use disk::Faults;
pub use error::StoreError;
pub(crate) use error::failed;
pub use files::{Health, Store, Usage};
pub use identity::identity;
pub use intake::{MovedSource, Taken, Taking};
pub use manifest::{FileRole, Manifest, Origin, StoredFile};
pub use shelf::NotUnderstood;
pub(crate) use space::need_space;
pub(crate) use unfinished::partial_paths;

#[cfg(test)]
mod tests;
