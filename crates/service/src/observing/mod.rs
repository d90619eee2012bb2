//! Measurements: counters, history, and the state of the machine.

pub(crate) mod history;
pub(crate) mod metrics;
pub(crate) mod traces;
pub(crate) mod vitals;
