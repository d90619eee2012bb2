//! The instructions that kernels use. They are detected once and then passed as a value.

use std::fmt;
use std::sync::LazyLock;

/// A class of paths that give the same bits; see docs/NUMERICS.md.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Class {
    /// Activations in eight bits, for weights in blocks.
    Int8,
    /// Activations and weights in BF16, summed in tiles.
    Bf16,
}

impl Class {
    /// The name of the class.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::Int8 => "int8",
            Self::Bf16 => "bf16",
        }
    }
}

/// A path: a set of instructions that kernels use.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Instructions {
    /// Tiles of 16 x 16 sums, and 512-bit vectors for everything else.
    Amx,
    /// 512-bit vectors with dot products of bytes.
    Avx512,
    /// 256-bit vectors with dot products of bytes, on processors without 512-bit ones.
    AvxVnni,
    /// 256-bit vectors with fused multiply-add and half-precision conversion.
    Avx2,
    /// Plain Rust; the specification of the others.
    Scalar,
    /// The results of tiles, bit for bit, with ordinary instructions. Slow; for tests and for comparison with another
    /// machine.
    AmxSimulated,
}

impl Instructions {
    /// All paths, the fastest first.
    pub const ALL: [Self; 6] =
        [Self::Amx, Self::Avx512, Self::AvxVnni, Self::Avx2, Self::Scalar, Self::AmxSimulated];

    /// The paths this processor can run, the fastest first; never empty.
    pub fn available() -> impl Iterator<Item = Self> {
        Self::ALL.into_iter().filter(|path| path.runs_here())
    }

    /// The best path of this processor as far as it is known without measuring; see [`crate::choice`].
    #[must_use]
    pub fn best() -> Self {
        Self::available().find(|path| path.class() == Class::Int8).unwrap_or(Self::Scalar)
    }

    /// The class of the path.
    #[must_use]
    pub fn class(self) -> Class {
        match self {
            Self::Amx | Self::AmxSimulated => Class::Bf16,
            Self::Avx512 | Self::AvxVnni | Self::Avx2 | Self::Scalar => Class::Int8,
        }
    }

    /// Whether the path simulates the instructions of another processor.
    #[must_use]
    pub fn is_simulated(self) -> bool {
        self == Self::AmxSimulated
    }

    /// The path of operations that are not computed in tiles.
    pub(crate) fn vectors(self) -> Self {
        static BESIDE_TILES: LazyLock<Instructions> = LazyLock::new(Instructions::best);
        match self.class() {
            Class::Int8 => self,
            Class::Bf16 => *BESIDE_TILES,
        }
    }

    /// The path with a name.
    #[must_use]
    pub fn named(name: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|path| path.name() == name)
    }

    /// The name of the path in settings.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::Amx => "amx",
            Self::Avx512 => "avx512-vnni",
            Self::AvxVnni => "avx-vnni",
            Self::Avx2 => "avx2",
            Self::Scalar => "scalar",
            Self::AmxSimulated => "amx-simulated",
        }
    }

    /// Whether the path uses 256-bit vectors.
    #[cfg(target_arch = "x86_64")]
    pub(crate) fn is_narrow(self) -> bool {
        matches!(self, Self::AvxVnni | Self::Avx2)
    }

    /// Whether this processor has the instructions.
    #[must_use]
    pub fn runs_here(self) -> bool {
        match self {
            #[cfg(target_arch = "x86_64")]
            // On processors without the dot products, this crate's tests use their twins, so that all other code is tested.
            Self::Avx512 => {
                Self::Avx2.runs_here()
                    && is_x86_feature_detected!("avx512f")
                    && is_x86_feature_detected!("avx512bw")
                    && is_x86_feature_detected!("avx512dq")
                    && is_x86_feature_detected!("avx512vl")
                    && (cfg!(test) || is_x86_feature_detected!("avx512vnni"))
            }
            #[cfg(target_arch = "x86_64")]
            // As above.
            Self::AvxVnni => {
                Self::Avx2.runs_here() && (cfg!(test) || is_x86_feature_detected!("avxvnni"))
            }
            #[cfg(target_arch = "x86_64")]
            Self::Avx2 => {
                is_x86_feature_detected!("avx2")
                    && is_x86_feature_detected!("fma")
                    && is_x86_feature_detected!("f16c")
            }
            #[cfg(target_arch = "x86_64")]
            Self::Amx => crate::tiles::present(),
            #[cfg(not(target_arch = "x86_64"))]
            Self::Amx | Self::Avx512 | Self::AvxVnni | Self::Avx2 => false,
            Self::Scalar | Self::AmxSimulated => true,
        }
    }
}

impl fmt::Display for Instructions {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Amx => "AMX",
            Self::Avx512 => "AVX-512 VNNI",
            Self::AvxVnni => "AVX-VNNI",
            Self::Avx2 => "AVX2",
            Self::Scalar => "scalar",
            Self::AmxSimulated => "AMX, simulated",
        })
    }
}

/// Defines functions that are compiled once for each path from one plain body, the scalar twin. The compiler uses the
/// vectors of the path, which does not change any bit. The first argument of such a function is the path.
macro_rules! on_every_path {
    ($($(#[$attribute:meta])* $visible:vis fn $name:ident($($argument:ident: $kind:ty),* $(,)?) $(-> $result:ty)? = $body:path;)*) => {$(
        $(#[$attribute])*
        $visible fn $name(path: $crate::Instructions, $($argument: $kind),*) $(-> $result)? {
            #[cfg(target_arch = "x86_64")]
            #[target_feature(enable = "avx512f,avx512bw,avx512dq,avx512vl,avx2,fma,f16c")]
            fn avx512($($argument: $kind),*) $(-> $result)? {
                $body($($argument),*)
            }
            #[cfg(target_arch = "x86_64")]
            #[target_feature(enable = "avx2,fma,f16c")]
            fn avx2($($argument: $kind),*) $(-> $result)? {
                $body($($argument),*)
            }
            debug_assert!(path.runs_here());
            match path.vectors() {
                #[cfg(target_arch = "x86_64")]
                // SAFETY: a path is only chosen if `Instructions::runs_here` detected its instructions.
                $crate::Instructions::Avx512 => unsafe { avx512($($argument),*) },
                #[cfg(target_arch = "x86_64")]
                // SAFETY: as above.
                $crate::Instructions::AvxVnni | $crate::Instructions::Avx2 => unsafe { avx2($($argument),*) },
                _ => $body($($argument),*),
            }
        }
    )*};
}
pub(crate) use on_every_path;
