//! Sixteen floats: the contents of a register of the widest path.

use bytemuck::{Pod, Zeroable};

/// Number of floats of a 512-bit register, and of a cache line.
pub(crate) const REGISTER: usize = 16;

/// Sixteen floats, aligned to a cache line.
#[derive(Debug, Clone, Copy, Default, Pod, Zeroable)]
#[repr(C, align(64))]
pub(crate) struct Sixteen(pub(crate) [f32; REGISTER]);
