//! Runs one model.
pub mod tokenizer;
