//! The service as a process: its start and stop, how it is found, what it may open, and what it starts.

pub(crate) mod changes;
pub(crate) mod descriptors;
mod opening;
pub mod presence;
pub mod private_files;
pub(crate) mod run;
pub(crate) mod spawner;
