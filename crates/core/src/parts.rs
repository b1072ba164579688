//! Parts of a source: what lies between marks, one part after the other.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::findings::{Stretch, StretchKind};
use crate::rational::Rational;
use crate::reading::{Chapter, Content, Reading, Stream};
use crate::timecode::{Timecode, TimecodeError, duration_text, moment_text};
use crate::units::ByteSize;

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

/// What is left of a stretch of the source when only these parts are taken, in the time of what is
/// taken. Neighbours that touch there become one.
#[must_use]
pub fn taken(parts: &[Span], stretch: Span) -> Vec<Span> {
    let mut before = Rational::ZERO;
    let mut taken: Vec<Span> = Vec::new();
    for part in parts {
        if let Some(common) = part.common(stretch) {
            let from = common.from - part.from + before;
            let to = from + common.length();
            match taken.last_mut() {
                Some(last) if last.to == from => last.to = to,
                _ => taken.push(Span { from, to }),
            }
        }
        before = before + part.length();
    }
    taken
}

/// The moment of the source that is shown `at` seconds into what is taken; behind its end, the end.
#[must_use]
pub fn source_time(parts: &[Span], at: Rational) -> Rational {
    let mut left = at;
    for part in parts {
        if left < part.length() {
            return part.from + left;
        }
        left = left - part.length();
    }
    parts.last().map_or(at, |last| last.to)
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

impl Reading {
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

    /// The source as if it had nothing but these parts, which are brought to whole frames and to
    /// its length; they come back as they were taken.
    ///
    /// # Errors
    /// [`PartsError`] where a part is none of this source's.
    pub fn cut_to(&self, parts: &[Span]) -> Result<(Self, Vec<Span>), PartsError> {
        check_order(parts)?;
        let parts = self.in_frames(parts)?;
        let mut cut = self.clone();
        let zero = self.zero();
        for stream in &mut cut.streams {
            cut_stream(stream, zero, &parts);
        }
        cut.start = Rational::ZERO;
        cut.duration = Some(total(&parts));
        cut.chapters = cut_chapters(&self.chapters, zero, &parts);
        cut.timecode = self.timecode.as_ref().and_then(|written| self.timecode_at(written, parts.first()?.from));
        if let (Some(findings), Some(rate)) = (&mut cut.findings, self.picture().and_then(|(_, picture)| picture.frame_rate))
            && let Some(fields) = &mut findings.fields
        {
            fields.stretches = cut_stretches(&fields.stretches, &parts, rate);
        }
        Ok((cut, parts))
    }

    /// Parts that begin and end with frames and do not go beyond the end.
    fn in_frames(&self, parts: &[Span]) -> Result<Vec<Span>, PartsError> {
        let rate = self.picture().and_then(|(_, picture)| picture.frame_rate.filter(|_| !picture.varies));
        let snapped = |time: Rational| match rate {
            Some(rate) => Rational::whole((time * rate).round()).divided_by(rate).unwrap_or(time),
            None => time,
        };
        let seconds = |time: Rational| format!("{:.3}", time.to_f64());
        let mut taken = Vec::new();
        for (place, part) in parts.iter().enumerate() {
            let end = self.duration.map_or(part.to, |length| part.to.min(length));
            let span = Span { from: snapped(part.from), to: snapped(end) };
            match self.duration {
                Some(length) if span.length() <= Rational::ZERO && part.to > length => {
                    return Err(PartsError::BehindEnd { number: place + 1, from: seconds(part.from), length: seconds(length) });
                }
                _ if span.length() <= Rational::ZERO => {
                    return Err(PartsError::Order { number: place + 1, earliest: part.from });
                }
                _ => taken.push(span),
            }
        }
        Ok(taken)
    }

    fn timecode_at(&self, written: &str, at: Rational) -> Option<String> {
        let rate = self.picture().filter(|(_, picture)| !picture.varies)?.1.frame_rate?;
        let start = Timecode::parse(written, rate).ok()?;
        Some(start.later_by(u64::try_from((at * rate).round()).ok()?).to_string())
    }
}

fn cut_stream(stream: &mut Stream, zero: Rational, parts: &[Span]) {
    let begin = stream.start.map_or(Rational::ZERO, |start| start - zero);
    let end = stream.duration.map(|duration| begin + duration);
    let whole = Span { from: begin, to: end.unwrap_or_else(|| parts.last().map_or(begin, |last| last.to)) };
    let left = taken(parts, whole);
    let start = left.first().map_or(Rational::ZERO, |span| span.from);
    stream.start = Some(start);
    stream.duration = Some(left.last().map_or(Rational::ZERO, |span| span.to) - start);
    if let Content::Picture(picture) = &mut stream.content {
        let counted = picture.frame_rate.filter(|_| !picture.varies && picture.frames.is_some());
        picture.frames = counted.and_then(|rate| u64::try_from((total(&left) * rate).round()).ok());
    }
}

/// Chapters in the time of what is taken; what is left of one that was cut keeps its title.
fn cut_chapters(chapters: &[Chapter], zero: Rational, parts: &[Span]) -> Vec<Chapter> {
    let left = chapters.iter().filter_map(|chapter| {
        let left = taken(parts, Span { from: chapter.start - zero, to: chapter.end - zero });
        let (first, last) = (left.first()?, left.last()?);
        Some(Chapter { start: first.from, end: last.to, title: chapter.title.clone() })
    });
    left.collect()
}

/// Stretches counted in the frames of what is taken; cadences keep their place in the cycle.
fn cut_stretches(stretches: &[Stretch], parts: &[Span], rate: Rational) -> Vec<Stretch> {
    let frame_at = |time: Rational| u64::try_from((time * rate).round()).unwrap_or(0);
    let time_of = |frame: u64| Rational::whole(i64::try_from(frame).unwrap_or(0)).divided_by(rate).unwrap_or(Rational::ZERO);
    let mut cut = Vec::new();
    let mut before = 0;
    for part in parts {
        let (first, end) = (frame_at(part.from), frame_at(part.to));
        for (place, stretch) in stretches.iter().enumerate() {
            // Frames behind the last stretch belong to it.
            let stretch_end = if place + 1 == stretches.len() { u64::MAX } else { stretch.end_frame };
            let (from, to) = (stretch.first_frame.max(first), stretch_end.min(end));
            if from >= to {
                continue;
            }
            let (first_frame, end_frame) = (from - first + before, to - first + before);
            let kind = match stretch.kind {
                StretchKind::Telecine { pulldown, first: order, phase } => {
                    let shift = i128::from(first) - i128::from(before);
                    let place = (i128::from(phase) + shift).rem_euclid(i128::from(pulldown.cycle()));
                    StretchKind::Telecine { pulldown, first: order, phase: u8::try_from(place).unwrap_or(0) }
                }
                other => other,
            };
            cut.push(Stretch { first_frame, end_frame, from: time_of(first_frame), to: time_of(end_frame), kind });
        }
        before += end - first;
    }
    cut
}
