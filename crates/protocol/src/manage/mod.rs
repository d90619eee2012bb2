//! The management API: depot, plans, instances, pools, calls.

mod calls;
mod depot;
mod history;
mod keeping;
mod loading;
mod sources;
mod status;

pub use calls::*;
pub use depot::*;
pub use history::*;
pub use keeping::*;
pub use loading::*;
pub use sources::*;
pub use status::*;

#[cfg(test)]
mod tests;
