//! What is measured: counters, lines over time, and the state of the machine.

pub(crate) mod history;
pub(crate) mod metrics;
pub(crate) mod vitals;
