//! The times of a source and of what is made of it, and the way from one to the other.

use super::rational::Rational;
use super::span::{Span, total};

/// A moment on the clock of a file, in seconds: the time stamps of its streams, from wherever they count.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct SourceTime(pub Rational);

/// A moment of a source in seconds from its first frame (without a picture, from its first sound): what people count.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct FromFirst(pub Rational);

/// A moment of an output in seconds from its beginning.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct OutputTime(pub Rational);

impl SourceTime {
    /// The same counted from the first frame, which stands at `zero`.
    #[must_use]
    pub fn from_first(self, zero: Self) -> FromFirst {
        FromFirst(self.0 - zero.0)
    }
}

impl FromFirst {
    /// The same on the clock of a file whose first frame stands at `zero`.
    #[must_use]
    pub fn on_clock(self, zero: SourceTime) -> SourceTime {
        SourceTime(self.0 + zero.0)
    }
}

/// How the time of a source becomes that of an output: the parts that are taken, one after the other (all of it where
/// there are none), and by what factor they play faster.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct TimeMap<'a> {
    parts: &'a [Span],
    speed: Rational,
}

impl<'a> TimeMap<'a> {
    /// Of these parts at a speed; one that is not positive is none.
    #[must_use]
    pub fn new(parts: &'a [Span], speed: Rational) -> Self {
        Self { parts, speed: if speed.is_positive() { speed } else { Rational::ONE } }
    }

    /// The moment of the source that is shown at a moment of the output; behind its end, the end of what is taken.
    #[must_use]
    pub fn source(self, at: OutputTime) -> FromFirst {
        let mut left = at.0 * self.speed;
        if self.parts.is_empty() {
            return FromFirst(left);
        }
        for part in self.parts {
            if left < part.length() {
                return FromFirst(part.from + left);
            }
            left = left - part.length();
        }
        FromFirst(self.parts.last().map_or(left, |last| last.to))
    }

    /// Where a stretch of the source, in seconds from its first frame, is shown in the output. Neighbours that touch
    /// there become one.
    #[must_use]
    pub fn shown(self, stretch: Span) -> Vec<Span> {
        let mut before = Rational::ZERO;
        let mut shown: Vec<Span> = Vec::new();
        let whole = [stretch];
        let parts = if self.parts.is_empty() { &whole } else { self.parts };
        if self.parts.is_empty() {
            before = stretch.from;
        }
        for part in parts {
            if let Some(common) = part.common(stretch) {
                let from = self.length(common.from - part.from + before);
                let to = from + self.length(common.length());
                match shown.last_mut() {
                    Some(last) if last.to == from => last.to = to,
                    _ => shown.push(Span { from, to }),
                }
            }
            before = before + part.length();
        }
        shown
    }

    /// How long so many seconds of what is taken are in the output.
    #[must_use]
    pub fn length(self, of_source: Rational) -> Rational {
        of_source.divided_by(self.speed).unwrap_or(of_source)
    }

    /// How long all that is taken is in the output; nothing where that is all of the source.
    #[must_use]
    pub fn whole(self) -> Option<Rational> {
        (!self.parts.is_empty()).then(|| self.length(total(self.parts)))
    }
}
