//! The records in the database, one module per table. All SQL is here.

pub(crate) mod batches;
pub(crate) mod calls;
pub(crate) mod history;
pub(crate) mod instances;
pub(crate) mod nodes;
pub(crate) mod profiles;
pub(crate) mod sources;
pub(crate) mod transfers;
pub(crate) mod variants;
