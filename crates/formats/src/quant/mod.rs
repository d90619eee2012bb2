//! Tensor types: packing of values into blocks, and unpacking.
//!
//! Each type has a file. All block types are unpacked to a common form, [`Strip`]s of sixteen groups of 32 values, which decoding
//! and multiplication use.

mod bf16;
mod f16;
mod f32;
mod iq4_nl;
mod iq4_xs;
mod q2_k;
mod q3_k;
mod q4_0;
mod q4_1;
mod q4_k;
mod q5_0;
mod q5_1;
mod q5_k;
mod q6_k;
mod q8_0;
mod strip;

pub use iq4_nl::{CODEBOOK, IQ4_NL};
pub use iq4_xs::IQ4_XS;
pub use q2_k::Q2_K;
pub use q3_k::Q3_K;
pub use q4_0::Q4_0;
pub use q4_1::Q4_1;
pub use q4_k::Q4_K;
pub use q5_0::Q5_0;
pub use q5_1::Q5_1;
pub use q5_k::Q5_K;
pub use q6_k::Q6_K;
pub use q8_0::{Q8_0, encode_q8_0};
pub use strip::{Blocks, GROUP, STRIP, STRIP_GROUPS, Strip, unpack, unpack_scales};

use std::fmt;

macro_rules! tensor_types {
    ($($variant:ident = $id:literal, $name:literal, $values:literal, $bytes:literal;)*) => {
        /// The type of a tensor: how its values are stored.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
        #[allow(non_camel_case_types)]
        pub enum TensorType {
            $(#[doc = concat!("`", $name, "`: ", $values, " values in ", $bytes, " bytes.")] $variant,)*
        }

        impl TensorType {
            /// All supported types, in the order of their ids.
            pub const ALL: &[Self] = &[$(Self::$variant,)*];

            /// The type with an id in a GGUF file.
            #[must_use]
            pub fn from_id(id: u32) -> Option<Self> {
                match id {
                    $($id => Some(Self::$variant),)*
                    _ => None,
                }
            }

            /// Its id in a GGUF file.
            #[must_use]
            pub fn id(self) -> u32 {
                match self {
                    $(Self::$variant => $id,)*
                }
            }

            /// The usual name.
            #[must_use]
            pub fn name(self) -> &'static str {
                match self {
                    $(Self::$variant => $name,)*
                }
            }

            /// Number of values of a block.
            #[must_use]
            pub fn block_values(self) -> usize {
                match self {
                    $(Self::$variant => $values,)*
                }
            }

            /// Bytes of a block.
            #[must_use]
            pub fn block_bytes(self) -> usize {
                match self {
                    $(Self::$variant => $bytes,)*
                }
            }
        }
    };
}

tensor_types! {
    F32 = 0, "F32", 1, 4;
    F16 = 1, "F16", 1, 2;
    Q4_0 = 2, "Q4_0", 32, 18;
    Q4_1 = 3, "Q4_1", 32, 20;
    Q5_0 = 6, "Q5_0", 32, 22;
    Q5_1 = 7, "Q5_1", 32, 24;
    Q8_0 = 8, "Q8_0", 32, 34;
    Q2_K = 10, "Q2_K", 256, 84;
    Q3_K = 11, "Q3_K", 256, 110;
    Q4_K = 12, "Q4_K", 256, 144;
    Q5_K = 13, "Q5_K", 256, 176;
    Q6_K = 14, "Q6_K", 256, 210;
    IQ4_NL = 20, "IQ4_NL", 32, 18;
    IQ4_XS = 23, "IQ4_XS", 256, 136;
    BF16 = 30, "BF16", 1, 2;
}

/// Calls with a type that stores blocks as a type parameter: `with_blocks!(tensor_type, B => work::<B>())`.
/// Panics for a type that stores floats.
#[macro_export]
macro_rules! with_blocks {
    ($tensor_type:expr, $B:ident => $call:expr) => {
        $crate::with_blocks!(
            @ $tensor_type, $B => $call;
            Q4_0 Q4_1 Q5_0 Q5_1 Q8_0 Q2_K Q3_K Q4_K Q5_K Q6_K IQ4_NL IQ4_XS
        )
    };
    (@ $tensor_type:expr, $B:ident => $call:expr; $($name:ident)*) => {
        match $tensor_type {
            $($crate::quant::TensorType::$name => {
                type $B = $crate::quant::$name;
                $call
            })*
            other => panic!("{other} has no blocks"),
        }
    };
}

impl fmt::Display for TensorType {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.name())
    }
}

impl TensorType {
    /// Bytes of a row of `values` values; `values` is a multiple of [`Self::block_values`].
    #[must_use]
    pub fn row_bytes(self, values: usize) -> usize {
        // The number of values of a block is a power of two, and a shift is ten times as fast as a division.
        (values >> self.block_values().trailing_zeros()) * self.block_bytes()
    }

    /// Whether values are stored one by one, as floats.
    #[must_use]
    pub fn is_float(self) -> bool {
        matches!(self, Self::F32 | Self::F16 | Self::BF16)
    }

    /// Decodes whole blocks into `values`.
    ///
    /// # Panics
    /// If lengths do not match.
    pub fn decode(self, blocks: &[u8], values: &mut [f32]) {
        assert_eq!(blocks.len(), self.row_bytes(values.len()), "{self} blocks and values differ");
        match self {
            Self::F32 => f32::decode(blocks, values),
            Self::F16 => f16::decode(blocks, values),
            Self::BF16 => bf16::decode(blocks, values),
            _ => with_blocks!(self, B => decode::<B>(blocks, values)),
        }
    }
}

fn decode<B: Blocks>(blocks: &[u8], values: &mut [f32]) {
    let mut strip = Strip::default();
    for (block, values) in blocks.chunks(B::BYTES).zip(values.chunks_mut(B::VALUES)) {
        B::scales(block, &mut strip, 0);
        B::quants(block, &mut strip, 0);
        let groups = values.as_chunks_mut::<GROUP>().0.iter_mut();
        groups.enumerate().for_each(|(group, values)| strip.decode::<B>(group, values));
    }
}

#[cfg(test)]
mod tests;
