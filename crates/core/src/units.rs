//! Quantities that must not be mixed up.

use std::fmt;

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::time::Rational;

/// A rate of data in bits a second.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default, Serialize, Deserialize, ToSchema)]
#[serde(transparent)]
pub struct BitRate(pub u64);

/// A size in bytes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default, Serialize, Deserialize, ToSchema)]
#[serde(transparent)]
pub struct ByteSize(pub u64);

impl BitRate {
    /// The bytes that this rate makes in `duration`, rounded up.
    #[must_use]
    pub fn over(self, duration: Rational) -> ByteSize {
        let bits = Rational::whole(i64::try_from(self.0).unwrap_or(i64::MAX)) * duration;
        ByteSize(u64::try_from((bits * Rational::constant(1, 8)).ceil()).unwrap_or(0))
    }
}

impl fmt::Display for BitRate {
    /// In Mb/s, and below one of these in kb/s.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let rate = self.0 as f64;
        match self.0 {
            0..1_000_000 => write!(f, "{:.0} kb/s", rate / 1e3),
            1_000_000..100_000_000 => {
                let text = format!("{:.1}", rate / 1e6);
                write!(f, "{} Mb/s", text.strip_suffix(".0").unwrap_or(&text))
            }
            _ => write!(f, "{:.0} Mb/s", rate / 1e6),
        }
    }
}

impl ByteSize {
    /// The rate at which so many bytes pass in this time; nought where it is none.
    #[must_use]
    pub fn rate_over(self, duration: Rational) -> BitRate {
        let seconds = duration.to_f64();
        // Within 2^53 for every file that fits a disk.
        #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss)]
        BitRate(if seconds > 0.0 { (self.0 as f64 * 8.0 / seconds) as u64 } else { 0 })
    }
}

impl fmt::Display for ByteSize {
    /// Decimal, three figures: `98 MB`, `1.25 GB`.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let mut value = self.0 as f64;
        let mut unit = "B";
        for next in ["kB", "MB", "GB", "TB"] {
            if value < 999.5 {
                break;
            }
            value /= 1000.0;
            unit = next;
        }
        let decimals = match value {
            _ if unit == "B" || value >= 99.95 => 0,
            value if value >= 9.995 => 1,
            _ => 2,
        };
        write!(f, "{value:.decimals$} {unit}")
    }
}

impl std::ops::Add for ByteSize {
    type Output = Self;
    fn add(self, other: Self) -> Self {
        Self(self.0.saturating_add(other.0))
    }
}

impl std::iter::Sum for ByteSize {
    fn sum<I: Iterator<Item = Self>>(sizes: I) -> Self {
        sizes.fold(Self(0), std::ops::Add::add)
    }
}
