//! The management API: depot, plans, instances, pools, calls.

mod depot;
mod keeping;
mod loading;
mod status;

pub use depot::*;
pub use keeping::*;
pub use loading::*;
pub use status::*;

#[cfg(test)]
mod tests;
