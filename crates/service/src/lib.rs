//! The service: records, supervision of engine processes, routes.
//!
//! [`run`] is its whole life: it takes the data directory, opens the records, brings back what was
//! loaded, listens, and at the end drains and stops every child.
#![forbid(unsafe_code)]

mod board;
mod catalogue;
mod changes;
mod checkup;
mod config;
mod console;
mod database;
mod depot_identity;
mod descriptors;
mod fleet;
mod gateway;
mod guard;
mod header_helper;
mod history;
mod keeping;
mod loads;
mod machine;
mod metrics;
mod permission;
pub mod presence;
pub mod private_files;
mod processor;
mod pulling;
mod records;
mod refusals;
mod routes;
mod run;
mod sources;
mod spawner;
mod transfers;
mod vitals;
mod wire;

pub use config::{Config, ConfigError, Flags, Loaded};
pub use header_helper::HeaderHelper;
pub use permission::{KeyError, key_file, read_key};
pub use routes::openapi_document;
pub use run::{RunError, StartOptions, Starting, run};
pub use spawner::own_program;
