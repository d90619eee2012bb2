//! The management API: depot, plans, instances, pools, calls.

mod calls;
mod depot;
mod history;
mod loading;
mod profiles;
mod settings;
mod snippets;
mod sources;
mod status;
mod traces;
mod transfers;

pub use calls::*;
pub use depot::*;
pub use history::*;
pub use loading::*;
pub use profiles::*;
pub use settings::*;
pub use snippets::*;
pub use sources::*;
pub use status::*;
pub use traces::*;
pub use transfers::*;

#[cfg(test)]
mod tests;
