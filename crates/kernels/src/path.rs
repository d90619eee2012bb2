//! Which instructions the kernels use: found out once, then carried along as a value.

use std::fmt;

/// A set of instructions.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Path {
    /// 256-bit vectors with fused multiply-add and half-precision conversion.
    Avx2,
    /// Plain Rust; the specification of the others.
    Scalar,
}

impl Path {
    /// In order of preference.
    const ORDER: [Self; 2] = [Self::Avx2, Self::Scalar];

    /// The paths this processor can run, best first; never empty.
    pub fn available() -> impl Iterator<Item = Self> {
        Self::ORDER.into_iter().filter(|path| path.runs_here())
    }

    /// The best path of this processor.
    #[must_use]
    pub fn best() -> Self {
        Self::available().next().unwrap_or(Self::Scalar)
    }

    pub(crate) fn runs_here(self) -> bool {
        match self {
            #[cfg(target_arch = "x86_64")]
            Self::Avx2 => {
                is_x86_feature_detected!("avx2")
                    && is_x86_feature_detected!("fma")
                    && is_x86_feature_detected!("f16c")
            }
            #[cfg(not(target_arch = "x86_64"))]
            Self::Avx2 => false,
            Self::Scalar => true,
        }
    }
}

impl fmt::Display for Path {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Avx2 => "AVX2",
            Self::Scalar => "scalar",
        })
    }
}
