//! Between the types on the wire and those of the crates below: the only place that knows both.

mod depot;
mod plans;
mod problems;
mod settings;

pub(crate) use depot::{role, variant};
pub(crate) use plans::{command_of, load_command, parts, plan, reasons};
pub(crate) use problems::{
    depot_problem, name_taken, remote_problem, source_problem, store_problem,
};
pub(crate) use settings::{
    all_shares, load_settings, memory_request, places, policy, requested_share, settings, shares,
};

#[cfg(test)]
mod tests;
