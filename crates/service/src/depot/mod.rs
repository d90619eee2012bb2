//! The models on this machine: which there are, where they came from, and everything that is done with their files.

pub(crate) mod catalogue;
pub(crate) mod files;
pub(crate) mod header_process;
pub(crate) mod identity;
pub(crate) mod pulling;
pub(crate) mod sources;
pub(crate) mod transfers;
