//! Stand-ins for the places that models come from: a web server with a depot index, a git host with a
//! server for large files, a hub that lists files. They are simulated, run on loopback only, and can be
//! told to be slow, to break, to ask for a token, to lie. The registry of the tests and of the demo is a
//! real one; what is put into it is put there by [`artefact`].
#![forbid(unsafe_code)]

pub mod artefact;
mod behaviour;
mod content;
mod git;
mod hub;
mod registry;
mod repository;
mod tokens;

pub use behaviour::Behaviour;
pub use hub::{Hub, HubOptions};
pub use registry::{Door, READER, Registry};
pub use repository::make_repository;
pub use tokens::Issuer;
