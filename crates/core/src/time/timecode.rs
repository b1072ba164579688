//! Timecode after SMPTE ST 12-1: frames counted and written as hours, minutes, seconds and frames.

use std::fmt;

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::rational::Rational;

/// How frames are numbered: how many to a second, and whether numbers are dropped.
///
/// Drop-frame leaves out the first numbers of each minute except every tenth, so that the
/// written time keeps up with the clock at 30000/1001 and its multiples. No frame is lost by it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
pub struct TimecodeBase {
    /// Frames counted to a second: 24, 25, 30, 48, 50, 60, 100 or 120 and any other up to 120.
    pub frames_per_second: u32,
    /// Whether numbers are dropped (only at 30, 60 and 120).
    pub drop_frame: bool,
}

/// A position counted in frames from midnight.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
pub struct Timecode {
    /// How the frames are numbered.
    pub base: TimecodeBase,
    /// Frames since 00:00:00:00, below one day.
    pub frame: u64,
}

/// Why a text is no timecode.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum TimecodeError {
    /// Not of the form `HH:MM:SS:FF`.
    #[error("“{0}” is not a timecode: write HH:MM:SS:FF, with ; before the frames for drop-frame")]
    Form(String),
    /// A part is too large.
    #[error("“{text}” is not a timecode at {frames_per_second} frames a second: {part} is out of range")]
    Range {
        /// What was read.
        text: String,
        /// Which part is too large.
        part: &'static str,
        /// The count of frames to a second.
        frames_per_second: u32,
    },
    /// One of the numbers that drop-frame leaves out.
    #[error("“{0}” does not exist in drop-frame timecode: the numbers 00 (and 01) are left out at this minute")]
    Dropped(String),
    /// Frame rates without timecode.
    #[error("there is no timecode at {0} frames a second: ST 12 counts 1 to 120, and drop-frame at 29.97, 59.94 and 119.88 only")]
    Rate(Rational),
}

impl TimecodeBase {
    /// The numbering used for material at `rate`.
    ///
    /// # Errors
    /// [`TimecodeError::Rate`] where the rate is above 120, below one, or where drop-frame is asked
    /// for at a rate that has none.
    pub fn for_rate(rate: Rational, drop_frame: bool) -> Result<Self, TimecodeError> {
        let is_counted = rate.denominator() == 1 || rate.denominator() == 1001;
        let counted = u32::try_from(rate.round()).ok().filter(|counted| is_counted && (1..=120).contains(counted));
        let counted = counted.ok_or(TimecodeError::Rate(rate))?;
        let droppable = rate.denominator() == 1001 && counted % 30 == 0;
        if drop_frame && !droppable {
            return Err(TimecodeError::Rate(rate));
        }
        Ok(Self { frames_per_second: counted, drop_frame })
    }

    fn dropped_per_minute(self) -> u64 {
        if self.drop_frame { u64::from(self.frames_per_second) / 15 } else { 0 }
    }

    fn frames_per_ten_minutes(self) -> u64 {
        u64::from(self.frames_per_second) * 600 - 9 * self.dropped_per_minute()
    }

    fn frames_per_day(self) -> u64 {
        self.frames_per_ten_minutes() * 144
    }
}

impl Timecode {
    /// The position `frame` frames after midnight; a day later it begins again.
    #[must_use]
    pub fn from_frame(base: TimecodeBase, frame: u64) -> Self {
        Self { base, frame: frame % base.frames_per_day() }
    }

    /// Reads `HH:MM:SS:FF`, or `HH:MM:SS;FF` for drop-frame. The separator decides, not `base`:
    /// a colon is read as non-drop, a semicolon (or a point or comma, as some decks write) as drop.
    ///
    /// # Errors
    /// Where the text has another form, a part is too large, or the number is one that is left out.
    pub fn parse(text: &str, rate: Rational) -> Result<Self, TimecodeError> {
        let form = || TimecodeError::Form(text.to_owned());
        let trimmed = text.trim();
        let split = trimmed.rfind([':', ';', '.', ',']).ok_or_else(form)?;
        let (clock, frames) = trimmed.split_at(split);
        let drop_frame = !frames.starts_with(':');
        let base = TimecodeBase::for_rate(rate, drop_frame)?;
        let number = |part: &str| -> Result<u64, TimecodeError> {
            if part.is_empty() || part.len() > 3 || !part.bytes().all(|byte| byte.is_ascii_digit()) {
                return Err(form());
            }
            part.parse().map_err(|_| form())
        };
        let parts: Vec<&str> = clock.split([':', ';']).collect();
        let [hours, minutes, seconds] = parts.as_slice() else { return Err(form()) };
        let (hours, minutes, seconds) = (number(hours)?, number(minutes)?, number(seconds)?);
        let frames = number(&frames[1..])?;
        let per_second = u64::from(base.frames_per_second);
        for (value, limit, part) in
            [(hours, 24, "the hour"), (minutes, 60, "the minute"), (seconds, 60, "the second"), (frames, per_second, "the frame")]
        {
            if value >= limit {
                return Err(TimecodeError::Range { text: text.to_owned(), part, frames_per_second: base.frames_per_second });
            }
        }
        let dropped = base.dropped_per_minute();
        if seconds == 0 && minutes % 10 != 0 && frames < dropped {
            return Err(TimecodeError::Dropped(text.to_owned()));
        }
        let total_minutes = hours * 60 + minutes;
        let counted = (total_minutes * 60 + seconds) * per_second + frames;
        Ok(Self { base, frame: counted - dropped * (total_minutes - total_minutes / 10) })
    }

    /// The position so many frames later.
    #[must_use]
    pub fn later_by(self, frames: u64) -> Self {
        Self::from_frame(self.base, self.frame + frames)
    }

    /// The position so many frames earlier; before midnight it is the day before.
    #[must_use]
    pub fn earlier_by(self, frames: i64) -> Self {
        let day = i128::from(self.base.frames_per_day());
        let frame = (i128::from(self.frame) - i128::from(frames)).rem_euclid(day);
        Self { base: self.base, frame: u64::try_from(frame).unwrap_or(0) }
    }

    /// How many frames after midnight it is.
    #[must_use]
    pub const fn frame(self) -> u64 {
        self.frame
    }

    /// The same clock position at another rate, the frames within the second scaled down.
    ///
    /// # Errors
    /// [`TimecodeError::Rate`] where the new rate has no timecode.
    pub fn at_rate(self, rate: Rational) -> Result<Self, TimecodeError> {
        let base = TimecodeBase::for_rate(rate, self.base.drop_frame).or_else(|_| TimecodeBase::for_rate(rate, false))?;
        let [hours, minutes, seconds, frames] = self.parts();
        let scaled = frames * u64::from(base.frames_per_second) / u64::from(self.base.frames_per_second);
        let dropped = base.dropped_per_minute();
        let scaled = if seconds == 0 && minutes % 10 != 0 { scaled.max(dropped) } else { scaled };
        let total_minutes = hours * 60 + minutes;
        let counted = (total_minutes * 60 + seconds) * u64::from(base.frames_per_second) + scaled;
        Ok(Self { base, frame: counted - dropped * (total_minutes - total_minutes / 10) })
    }

    /// Hours, minutes, seconds and frames as written.
    fn parts(self) -> [u64; 4] {
        let base = self.base;
        let dropped = base.dropped_per_minute();
        let tens = self.frame / base.frames_per_ten_minutes();
        let rest = self.frame % base.frames_per_ten_minutes();
        let per_minute = u64::from(base.frames_per_second) * 60;
        let minutes_in_ten = if rest < per_minute { 0 } else { 1 + (rest - per_minute) / (per_minute - dropped) };
        let counted = self.frame + dropped * (9 * tens + minutes_in_ten);
        let per_second = u64::from(base.frames_per_second);
        let seconds = counted / per_second;
        [seconds / 3600, seconds / 60 % 60, seconds % 60, counted % per_second]
    }
}

impl fmt::Display for Timecode {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let [hours, minutes, seconds, frames] = self.parts();
        let separator = if self.base.drop_frame { ';' } else { ':' };
        let width = if self.base.frames_per_second > 100 { 3 } else { 2 };
        write!(f, "{hours:02}:{minutes:02}:{seconds:02}{separator}{frames:0width$}")
    }
}

/// A duration written as timecode at `rate`, counted from nought, without dropped numbers
/// for whole rates and with them for 30000/1001 and its multiples, where they keep clock time.
#[must_use]
pub fn duration_text(duration: Rational, rate: Rational) -> String {
    let frames = u64::try_from((duration * rate).round()).unwrap_or(0);
    let base = TimecodeBase::for_rate(rate, true).or_else(|_| TimecodeBase::for_rate(rate, false));
    match base {
        Ok(base) => Timecode::from_frame(base, frames).to_string(),
        Err(_) => moment_text(duration),
    }
}

/// A moment or duration as `HH:MM:SS.mmm`, for material whose frames are not counted.
#[must_use]
pub fn moment_text(moment: Rational) -> String {
    let thousandths = (moment * Rational::whole(1000)).round().max(0);
    format!("{}.{:03}", clock_text(Rational::whole(thousandths / 1000)), thousandths % 1000)
}

/// A duration as `HH:MM:SS`, for material without a frame rate.
#[must_use]
pub fn clock_text(duration: Rational) -> String {
    let seconds = duration.round().max(0);
    format!("{:02}:{:02}:{:02}", seconds / 3600, seconds / 60 % 60, seconds % 60)
}
