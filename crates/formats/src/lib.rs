//! Model file formats: bytes to values and back, without policy.
//!
//! [`gguf`] reads the header of a GGUF file (metadata and the list of tensors) with bounded reads:
//! nothing is allocated before it was checked against the length of the file, so a hostile file
//! costs no more memory than it has bytes. [`quant`] knows how each tensor type lays out its
//! values. What a value *means* to a model is the engine's business.
#![forbid(unsafe_code)]

pub mod gguf;
pub mod quant;
pub mod safetensors;
