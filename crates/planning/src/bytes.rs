use std::fmt;
use std::iter::Sum;
use std::ops::{Add, AddAssign};

use serde::{Deserialize, Serialize};

/// An amount of memory.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Default, Hash, Serialize, Deserialize,
)]
pub struct Bytes(pub u64);

impl Bytes {
    /// An amount of whole mebibytes.
    #[must_use]
    pub const fn mib(count: u64) -> Self {
        Self(count << 20)
    }

    /// The difference; zero if it would be negative.
    #[must_use]
    pub const fn saturating_sub(self, other: Self) -> Self {
        Self(self.0.saturating_sub(other.0))
    }
}

impl Add for Bytes {
    type Output = Self;
    fn add(self, other: Self) -> Self {
        Self(self.0.saturating_add(other.0))
    }
}

impl AddAssign for Bytes {
    fn add_assign(&mut self, other: Self) {
        *self = *self + other;
    }
}

impl Sum for Bytes {
    fn sum<I: Iterator<Item = Self>>(items: I) -> Self {
        items.fold(Self(0), Add::add)
    }
}

impl fmt::Display for Bytes {
    /// Three significant digits with a binary unit: `1.73 MiB`, `512 B`.
    #[expect(clippy::cast_precision_loss, reason = "three digits are shown")]
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        const UNITS: [&str; 6] = ["B", "KiB", "MiB", "GiB", "TiB", "PiB"];
        let mut value = self.0 as f64;
        let mut unit = 0;
        while value >= 999.5 && unit + 1 < UNITS.len() {
            value /= 1024.0;
            unit += 1;
        }
        let text = match value {
            _ if unit == 0 => format!("{} B", self.0),
            value if value >= 99.95 => format!("{value:.0} {}", UNITS[unit]),
            value if value >= 9.995 => format!("{value:.1} {}", UNITS[unit]),
            value => format!("{value:.2} {}", UNITS[unit]),
        };
        f.pad(&text)
    }
}

#[cfg(test)]
mod tests {
    use super::Bytes;

    #[test]
    fn amounts_are_written_with_three_digits() {
        let texts = [0, 512, 1000, 1536, 10 << 20, 1_993_568, 5 << 30, u64::MAX]
            .map(|bytes| Bytes(bytes).to_string());
        assert_eq!(
            texts,
            [
                "0 B",
                "512 B",
                "0.98 KiB",
                "1.50 KiB",
                "10.0 MiB",
                "1.90 MiB",
                "5.00 GiB",
                "16384 PiB"
            ]
        );
    }
}
