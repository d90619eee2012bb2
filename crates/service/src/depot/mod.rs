//! The models on this machine, their sources, and all operations on their files.

pub(crate) mod catalogue;
pub(crate) mod files;
pub(crate) mod header_process;
pub(crate) mod identity;
pub(crate) mod pulling;
pub(crate) mod sources;
pub(crate) mod transfers;
