//! What the operator asked to be loaded, what this machine has for it, and why it is refused.

pub(crate) mod loads;
pub(crate) mod machine_memory;
pub(crate) mod processor;
pub(crate) mod refusals;
