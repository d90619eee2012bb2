//! A call from its arrival to its end: it gets a seat at a model, and its answer is passed on and recorded.

pub(crate) mod board;
pub(crate) mod checkup;
pub(crate) mod gateway;
pub(crate) mod kept_answers;
pub(crate) mod profiles;
pub(crate) mod snippets;
