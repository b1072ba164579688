//! Parts of a source: what lies between marks, one part after the other.

use crate::facts::{Chapter, Content, Facts, Stream};
use crate::findings::{Stretch, StretchKind};
use crate::reading::Reading;
use crate::time::{PartsError, Rational, Span, TimeMap, check_order, total};

impl Reading {
    /// The source as if it had nothing but these parts, which are brought to whole frames and to
    /// its length; they come back as they were taken.
    ///
    /// # Errors
    /// [`PartsError`] where a part is none of this source's.
    pub fn cut_to(&self, parts: &[Span]) -> Result<(Self, Vec<Span>), PartsError> {
        check_order(parts)?;
        let parts = in_frames(&self.facts, parts)?;
        let mut cut = Self { facts: cut_facts(&self.facts, &parts), findings: self.findings.clone() };
        if let (Some(findings), Some(rate)) =
            (&mut cut.findings, self.facts.picture().and_then(|(_, picture)| picture.frame_rate))
            && let Some(fields) = &mut findings.fields
        {
            fields.stretches = cut_stretches(&fields.stretches, &parts, rate);
        }
        Ok((cut, parts))
    }
}

fn cut_facts(whole: &Facts, parts: &[Span]) -> Facts {
    let mut cut = whole.clone();
    let zero = whole.zero();
    for stream in &mut cut.streams {
        cut_stream(stream, zero, parts);
    }
    cut.start = Rational::ZERO;
    cut.duration = Some(total(parts));
    cut.chapters = cut_chapters(&whole.chapters, zero, parts);
    cut.timecode = whole.timecode.as_ref().and_then(|written| whole.timecode_at(written, parts.first()?.from));
    cut
}

/// Parts that begin and end with frames and do not go beyond the end.
fn in_frames(facts: &Facts, parts: &[Span]) -> Result<Vec<Span>, PartsError> {
    let rate = facts.picture().and_then(|(_, picture)| picture.frame_rate.filter(|_| !picture.varies));
    let snapped = |time: Rational| match rate {
        Some(rate) => Rational::whole((time * rate).round()).divided_by(rate).unwrap_or(time),
        None => time,
    };
    let seconds = |time: Rational| format!("{:.3}", time.to_f64());
    let mut taken = Vec::new();
    for (place, part) in parts.iter().enumerate() {
        let end = facts.duration.map_or(part.to, |length| part.to.min(length));
        let span = Span { from: snapped(part.from), to: snapped(end) };
        match facts.duration {
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

fn cut_stream(stream: &mut Stream, zero: Rational, parts: &[Span]) {
    let begin = stream.start.map_or(Rational::ZERO, |start| start - zero);
    let end = stream.duration.map(|duration| begin + duration);
    let whole = Span { from: begin, to: end.unwrap_or_else(|| parts.last().map_or(begin, |last| last.to)) };
    let left = TimeMap::new(parts, Rational::ONE).shown(whole);
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
        let left = TimeMap::new(parts, Rational::ONE).shown(Span { from: chapter.start - zero, to: chapter.end - zero });
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
