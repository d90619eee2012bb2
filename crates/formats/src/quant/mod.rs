//! Tensor types: how values are packed into blocks, and how blocks become values again.
//!
//! Each type has its own file here. All block types unpack into one common form, [`Group`]s of 32
//! values; decoding and multiplying know only that.

mod bf16;
mod f16;
mod f32;
mod group;
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

pub use group::{GROUP, Group};
pub use q8_0::encode_q8_0;

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

            /// Its id in a GGUF file.
            #[must_use]
            pub fn id(self) -> u32 {
                match self {
                    $(Self::$variant => $id,)*
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

    /// Whether values are stored one by one, as floats.
    #[must_use]
    pub fn is_float(self) -> bool {
        matches!(self, Self::F32 | Self::F16 | Self::BF16)
    }

    /// Takes blocks apart into groups of 32 values.
    ///
    /// # Panics
    /// When the lengths do not match, or the type stores floats.
    pub fn unpack(self, blocks: &[u8], groups: &mut [Group]) {
        let unpack: fn(&[u8], &mut [Group]) = match self {
            Self::Q4_0 => q4_0::unpack,
            Self::Q4_1 => q4_1::unpack,
            Self::Q5_0 => q5_0::unpack,
            Self::Q5_1 => q5_1::unpack,
            Self::Q8_0 => q8_0::unpack,
            Self::Q2_K => q2_k::unpack,
            Self::Q3_K => q3_k::unpack,
            Self::Q4_K => q4_k::unpack,
            Self::Q5_K => q5_k::unpack,
            Self::Q6_K => q6_k::unpack,
            Self::IQ4_NL => iq4_nl::unpack,
            Self::IQ4_XS => iq4_xs::unpack,
            Self::F32 | Self::F16 | Self::BF16 => panic!("{self} has no blocks"),
        };
        let each = self.block_values() / GROUP;
        assert_eq!(blocks.len(), groups.len() / each * self.block_bytes(), "{self} groups differ");
        for (block, groups) in blocks.chunks(self.block_bytes()).zip(groups.chunks_mut(each)) {
            unpack(block, groups);
        }
    }

    /// Decodes whole blocks into `values`.
    ///
    /// # Panics
    /// When the lengths do not match.
    pub fn decode(self, blocks: &[u8], values: &mut [f32]) {
        assert_eq!(blocks.len(), self.row_bytes(values.len()), "{self} blocks and values differ");
        match self {
            Self::F32 => f32::decode(blocks, values),
            Self::F16 => f16::decode(blocks, values),
            Self::BF16 => bf16::decode(blocks, values),
            _ => {
                let mut groups = [Group::default(); MOST_GROUPS];
                let groups = &mut groups[..self.block_values() / GROUP];
                let blocks = blocks.chunks(self.block_bytes());
                for (block, values) in blocks.zip(values.chunks_mut(self.block_values())) {
                    self.unpack(block, groups);
                    let values = values.as_chunks_mut::<GROUP>().0;
                    groups.iter().zip(values).for_each(|(group, values)| group.decode(values));
                }
            }
        }
    }
}

/// Groups in the largest block.
const MOST_GROUPS: usize = 8;

#[cfg(test)]
mod tests;
