//! The form of a type of blocks: what a product needs to know about it.

use deft_formats::quant::{Blocks, TensorType};
use deft_formats::with_blocks;

/// The form of a type's quants.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Form {
    /// Offset of the stored quants.
    pub(crate) offset: u8,
    /// Whether the halves of a group have separate scales.
    pub(crate) halves: bool,
    /// Whether there are minima.
    pub(crate) minima: bool,
}

impl Form {
    /// The form of a type; none for floats.
    pub(crate) fn of(tensor_type: TensorType) -> Option<Self> {
        if tensor_type.is_float() {
            return None;
        }
        Some(with_blocks!(tensor_type, B => Self::of_blocks::<B>()))
    }

    /// The form of blocks.
    pub(crate) const fn of_blocks<B: Blocks>() -> Self {
        Self { offset: B::OFFSET, halves: B::HALVES, minima: B::MINIMA }
    }

    /// Number of parts of a group with separate scales.
    pub(crate) const fn parts(self) -> usize {
        if self.halves { 2 } else { 1 }
    }

    /// Number of these parts with a bias of their integer sums.
    pub(crate) const fn sum_biases(self) -> usize {
        if self.offset == 0 { 0 } else { self.parts() }
    }

    /// Number of these parts with minima.
    pub(crate) const fn mins(self) -> usize {
        if self.minima { self.parts() } else { 0 }
    }
}
