//! The service: records, supervision of engine processes, routes.
//!
//! [`run`] is its whole life: it takes the data directory, opens the records, brings back what was
//! loaded, listens, and at the end drains and stops every child.
#![forbid(unsafe_code)]

mod answering;
mod batches;
mod config;
mod database;
mod depot;
mod fleet;
mod loading;
mod observing;
mod permission;
mod process;
mod records;
mod routes;
mod wire;

pub use config::{Config, ConfigError, Flags, Loaded};
pub use depot::header_process::HeaderHelper;
pub use permission::{KeyError, key_file, read_key};
pub use process::run::{RunError, StartOptions, Starting, run};
pub use process::spawner::own_program;
pub use process::{presence, private_files};
pub use routes::openapi_document;
