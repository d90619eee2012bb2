//! Simulated sources of models, for tests and the demo: a web server with a depot index, a git host with a server for large
//! files, and a hub that lists files. They run on loopback only. On request they are slow, break connections, require a token,
//! or send wrong data. The registry is a real one; [`artefact`] pushes models to it.
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
