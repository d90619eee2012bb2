//! What a register of the widest path holds.

use bytemuck::{Pod, Zeroable};

/// Floats of a register, and of a line of the caches.
pub(crate) const REGISTER: usize = 16;

/// Sixteen floats where a line of the caches begins.
#[derive(Debug, Clone, Copy, Default, Pod, Zeroable)]
#[repr(C, align(64))]
pub(crate) struct Sixteen(pub(crate) [f32; REGISTER]);
