//! What a product needs to know of a type that stores blocks.

use deft_formats::quant::{Blocks, TensorType};
use deft_formats::with_blocks;

/// How quants of a type are meant.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Form {
    /// They are stored so much more than they mean.
    pub(crate) offset: u8,
    /// The halves of a group have scales of their own.
    pub(crate) halves: bool,
    /// There are minima.
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

    /// Of blocks.
    pub(crate) const fn of_blocks<B: Blocks>() -> Self {
        Self { offset: B::OFFSET, halves: B::HALVES, minima: B::MINIMA }
    }

    /// Parts of a group that have scales of their own.
    pub(crate) const fn parts(self) -> usize {
        if self.halves { 2 } else { 1 }
    }

    /// Of these, those whose integer sums do not begin with nothing.
    pub(crate) const fn sum_biases(self) -> usize {
        if self.offset == 0 { 0 } else { self.parts() }
    }

    /// Of these, those that have minima.
    pub(crate) const fn mins(self) -> usize {
        if self.minima { self.parts() } else { 0 }
    }
}
