//! Stretches of time, and parts that follow one another.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::rational::Rational;

/// A stretch of time.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Span {
    /// Seconds of its beginning.
    pub from: Rational,
    /// Seconds of its end, which does not belong to it.
    pub to: Rational,
}

impl Span {
    /// How long it is, in seconds.
    #[must_use]
    pub fn length(self) -> Rational {
        self.to - self.from
    }

    /// What both have in common, where there is something.
    #[must_use]
    pub fn common(self, other: Self) -> Option<Self> {
        let (from, to) = (self.from.max(other.from), self.to.min(other.to));
        (from < to).then_some(Self { from, to })
    }
}

/// How long all of them are together, in seconds.
#[must_use]
pub fn total(parts: &[Span]) -> Rational {
    parts.iter().fold(Rational::ZERO, |total, part| total + part.length())
}

/// Why parts cannot be taken.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum PartsError {
    /// A part has no length, begins before the source, or before another one has ended.
    #[error("part {number} must begin at or after {earliest} s and end after it has begun")]
    Order {
        /// Which, from 1.
        number: usize,
        /// Seconds before which it cannot begin.
        earliest: Rational,
    },
    /// A part lies behind the end.
    #[error("part {number} begins at {from} s, but the source is only {length} s long")]
    BehindEnd {
        /// Which, from 1.
        number: usize,
        /// Seconds at which it begins.
        from: String,
        /// Seconds of the source.
        length: String,
    },
}

/// Checks that parts follow one another.
///
/// # Errors
/// [`PartsError::Order`] with the first that does not.
pub fn check_order(parts: &[Span]) -> Result<(), PartsError> {
    let mut earliest = Rational::ZERO;
    for (place, part) in parts.iter().enumerate() {
        if part.from < earliest || part.to <= part.from {
            return Err(PartsError::Order { number: place + 1, earliest });
        }
        earliest = part.to;
    }
    Ok(())
}
