//! Moments of a source as people name them.

use crate::facts::Facts;
use crate::time::{Rational, Timecode, TimecodeError, duration_text, moment_text};
use crate::units::ByteSize;

/// Why a text names no moment of a source.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum MomentError {
    /// It is no timecode at the source's rate.
    #[error(transparent)]
    Timecode(#[from] TimecodeError),
    /// The source has no frame rate to count by.
    #[error("“{0}” cannot be counted, since the source has no frame rate: write seconds, such as 12.5s")]
    NoRate(String),
}

impl Facts {
    /// The moment of its own clock that people count from: its first picture or, without one, its first sound.
    #[must_use]
    pub fn zero(&self) -> Rational {
        let sound = || self.sounds().filter_map(|(stream, _)| stream.start).min();
        self.picture().and_then(|(stream, _)| stream.start).or_else(sound).unwrap_or(Rational::ZERO)
    }

    /// The moment that a text names, in seconds from the first frame: `12.5s`, or a timecode. Timecodes
    /// at or behind the source's own start timecode are the source's own; others count from the first frame.
    ///
    /// # Errors
    /// [`MomentError`] where it is neither.
    pub fn moment(&self, text: &str) -> Result<Rational, MomentError> {
        if let Some(seconds) = text.strip_suffix('s').and_then(|seconds| seconds.parse::<Rational>().ok()) {
            return Ok(seconds);
        }
        let rate = self.picture().and_then(|(_, picture)| picture.frame_rate);
        let rate = rate.ok_or_else(|| MomentError::NoRate(text.to_owned()))?;
        let start = self.timecode.as_ref().and_then(|written| Timecode::parse(written, rate).ok());
        // Where the source's own timecode drops numbers, so does what is typed with colons.
        let drops = start.is_some_and(|start| start.base.drop_frame);
        let dropping = text.trim().rsplit_once(':').filter(|_| drops).map(|(clock, frames)| format!("{clock};{frames}"));
        let meant = Timecode::parse(dropping.as_deref().unwrap_or(text), rate)?.frame();
        let start = start.map_or(0, Timecode::frame);
        let frames = i64::try_from(meant.checked_sub(start).unwrap_or(meant)).unwrap_or(i64::MAX);
        Ok(Rational::whole(frames).divided_by(rate).unwrap_or(Rational::ZERO))
    }

    /// What people call a moment in seconds from the first frame: the source's own timecode, a count
    /// from nought where it has none, and milliseconds where frames are not counted.
    #[must_use]
    pub fn moment_words(&self, time: Rational) -> String {
        let rate = self.picture().and_then(|(_, picture)| picture.frame_rate);
        let own = || self.timecode_at(self.timecode.as_ref()?, time);
        own().unwrap_or_else(|| rate.map_or_else(|| moment_text(time), |rate| duration_text(time, rate)))
    }

    /// What so many seconds of the source weigh: their share of its length.
    #[must_use]
    pub fn size_of_part(&self, length: Rational) -> Option<ByteSize> {
        let share = length.divided_by(self.duration?)?.clamp(Rational::ZERO, Rational::ONE);
        let size = i64::try_from(self.size.0).ok()?;
        u64::try_from((Rational::whole(size) * share).round()).ok().map(ByteSize)
    }

    /// The timecode at so many seconds behind the one that is written.
    #[must_use]
    pub fn timecode_at(&self, written: &str, at: Rational) -> Option<String> {
        let rate = self.picture().filter(|(_, picture)| !picture.varies)?.1.frame_rate?;
        let start = Timecode::parse(written, rate).ok()?;
        Some(start.later_by(u64::try_from((at * rate).round()).ok()?).to_string())
    }
}
