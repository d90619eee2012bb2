//! Tensor types: how values are packed into blocks, and how blocks become values again.
//!
//! A type that can be decoded has its own file here; the table below also knows the layout of
//! types that are only recognised, so that facts about a file can be told before it is refused.

mod f16;
mod f32;
mod q8_0;

pub use q8_0::{BlockQ8, Q8_BLOCK, encode_q8_0};

use std::fmt;

macro_rules! tensor_types {
    ($($variant:ident = $id:literal, $name:literal, $values:literal, $bytes:literal;)*) => {
        /// How the values of a tensor are stored.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
        #[allow(non_camel_case_types)]
        pub enum TensorType {
            $(#[doc = concat!("`", $name, "`: ", $values, " values in ", $bytes, " bytes.")] $variant,)*
        }

        impl TensorType {
            /// Every type known here, in order of their ids.
            pub const ALL: &[Self] = &[$(Self::$variant,)*];

            /// The type of that id in a GGUF file.
            #[must_use]
            pub fn from_id(id: u32) -> Option<Self> {
                match id {
                    $($id => Some(Self::$variant),)*
                    _ => None,
                }
            }

            /// Name as the trade writes it.
            #[must_use]
            pub fn name(self) -> &'static str {
                match self {
                    $(Self::$variant => $name,)*
                }
            }

            /// Values in one block.
            #[must_use]
            pub fn block_values(self) -> usize {
                match self {
                    $(Self::$variant => $values,)*
                }
            }

            /// Bytes of one block.
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

impl fmt::Display for TensorType {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.name())
    }
}

impl TensorType {
    /// Bytes of a row of `values` values; `values` is a multiple of [`Self::block_values`].
    #[must_use]
    pub fn row_bytes(self, values: usize) -> usize {
        values / self.block_values() * self.block_bytes()
    }

    /// Whether [`Self::decode`] knows this type.
    #[must_use]
    pub fn is_decodable(self) -> bool {
        matches!(self, Self::F32 | Self::F16 | Self::Q8_0)
    }

    /// Decodes whole blocks into `values`.
    ///
    /// # Panics
    /// When the lengths do not match, or the type is not [decodable](Self::is_decodable): callers
    /// check a file's types once, when they open it.
    pub fn decode(self, blocks: &[u8], values: &mut [f32]) {
        assert_eq!(blocks.len(), self.row_bytes(values.len()), "{self} blocks and values differ");
        match self {
            Self::F32 => f32::decode(blocks, values),
            Self::F16 => f16::decode(blocks, values),
            Self::Q8_0 => q8_0::decode(blocks, values),
            other => panic!("tensor type {other} was not refused when the file was opened"),
        }
    }
}

#[cfg(test)]
mod tests;
