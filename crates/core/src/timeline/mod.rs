//! One timeline for a source: where every picture and every sample lies, whatever its file says.
//!
//! The engine gives each packet to [`Continuity`], which carries one clock over jumps of the file's own;
//! each decoded frame to the track of its stream, [`PictureTrack`] or [`SoundTrack`], which bring it to
//! its place in what is made: order, gaps, drift, parts and late starts are decided there and nowhere else.
//! [`Takes`] says what is taken and where nought lies. Everything that is made of a source (outputs,
//! copies of streams, proofs, stills of marks) counts by it, so all of it stays in step.

mod continuity;
mod origin;
mod picture;
mod remark;
mod sound;

use std::sync::Arc;

use crate::time::{Rational, Span, total};

pub use continuity::{Anchor, Continuity, Jump};
pub use origin::{Origin, origin};
pub use picture::{PictureTrack, PlacedPicture};
pub use remark::{MOST_LISTED, PictureForm, Remark};
pub use sound::{Gap, SoundPiece, SoundTrack};

/// The end of a source whose end nobody knows: some thirty years.
const NO_END: Rational = Rational::whole(1_000_000_000);

/// What is taken of a source, and where it comes to lie in what is made.
///
/// Times of the source are seconds of its own clock, made continuous; times of what is made begin at nought.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Takes {
    zero: Rational,
    parts: Arc<[Span]>,
}

impl Takes {
    /// All of a source, from this moment of its clock on.
    #[must_use]
    pub fn whole(origin: Rational) -> Self {
        Self { zero: origin, parts: Arc::new([Span { from: Rational::ZERO, to: NO_END }]) }
    }

    /// Parts of a source, which count from this moment of its clock; all of it where there are none.
    #[must_use]
    pub fn parts(zero: Rational, parts: &[Span]) -> Self {
        if parts.is_empty() { Self::whole(zero) } else { Self { zero, parts: parts.into() } }
    }

    /// How many parts there are.
    #[must_use]
    pub fn count(&self) -> usize {
        self.parts.len()
    }

    /// Whether it is all of the source.
    #[must_use]
    pub fn is_whole(&self) -> bool {
        self.parts.last().is_some_and(|last| last.to == NO_END)
    }

    /// Where a part lies, in seconds of the source's clock.
    #[must_use]
    pub fn part(&self, part: usize) -> Span {
        let span = self.parts[part];
        Span { from: self.zero + span.from, to: self.zero + span.to }
    }

    /// Where a part begins in what is made, in seconds.
    #[must_use]
    pub fn begins_at(&self, part: usize) -> Rational {
        total(&self.parts[..part])
    }

    /// By how many seconds what belongs to a part moves from the source's clock to that of what is made.
    #[must_use]
    pub fn shift(&self, part: usize) -> Rational {
        self.begins_at(part) - self.part(part).from
    }

    /// Whether a moment of the source's clock belongs to a part.
    #[must_use]
    pub fn holds(&self, part: usize, time: Rational) -> bool {
        let span = self.part(part);
        span.from <= time && time < span.to
    }

    /// Whether a moment of the source's clock lies behind a part.
    #[must_use]
    pub fn is_behind(&self, part: usize, time: Rational) -> bool {
        time >= self.part(part).to
    }
}

/// The ticks of a clock that are nearest to a time in seconds.
fn ticks(seconds: Rational, clock: Rational) -> i64 {
    seconds.divided_by(clock).map_or(0, Rational::round)
}
