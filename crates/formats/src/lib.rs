//! Model file formats: bytes to values and back, without policy.
//!
//! [`gguf`] reads the header of a GGUF file (metadata and the list of tensors) with bounded reads: every length is compared with
//! the length of the file before anything is allocated. [`quant`] has the layout of the values of each tensor type. The meaning
//! of the values is known to the engine only.
#![forbid(unsafe_code)]

pub mod gguf;
pub mod quant;
pub mod safetensors;
