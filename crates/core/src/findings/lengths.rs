//! What headers say of lengths against what is there.

use super::{Extent, Measurements, StreamMeasure};
use crate::facts::{Content, Facts, Stream};
use crate::time::Rational;
use crate::timeline::Remark;

/// Sound that ends by less than these seconds from its header's word ends where it says: encoders fill blocks up.
const SAME_END: Rational = Rational::constant(8, 100);

impl Facts {
    /// Puts the lengths that were found in place of those that headers say wrongly, and says so. A source that was
    /// cut, or whose end cannot be decoded, keeps its header's word: something is missing there.
    pub fn correct_lengths(&mut self, measured: &Measurements) {
        if measured.extent != Extent::Whole || self.missing.is_some() {
            return;
        }
        let zero = self.zero();
        self.remarks.extend(measured.jumps.iter().map(|jump| Remark::ClockJump { at: jump.at - zero, by: jump.by }.words()));
        let mut words = Vec::new();
        let jumps = !measured.jumps.is_empty();
        for found in measured.streams.iter().filter(|found| found.frames > 0 && !found.ends_in_damage) {
            if let Some(stream) = self.streams.iter_mut().find(|stream| stream.index == found.stream) {
                words.extend(correct(stream, found, jumps));
            }
        }
        if words.is_empty() {
            return;
        }
        self.remarks.append(&mut words);
        let spans = self.streams.iter().filter(|stream| matches!(stream.content, Content::Picture(_) | Content::Sound(_)));
        let spans: Vec<(Rational, Rational)> =
            spans.filter_map(|stream| Some((stream.start?, stream.start? + stream.duration?))).collect();
        let start = spans.iter().map(|(start, _)| *start).min();
        let end = spans.iter().map(|(_, end)| *end).max();
        if let Some((start, end)) = start.zip(end) {
            (self.start, self.duration) = (start, Some(end - start));
        }
    }
}

/// Corrects one stream; answers what there is to be said of it.
fn correct(stream: &mut Stream, found: &StreamMeasure, jumps: bool) -> Option<String> {
    let length = found.to - found.from;
    let (what, slack) = match &stream.content {
        Content::Picture(picture) => {
            let frame = picture.frame_rate.and_then(Rational::inverse).unwrap_or(SAME_END);
            ("picture", frame + frame * Rational::constant(1, 10))
        }
        Content::Sound(_) => ("sound", SAME_END),
        Content::Subtitles { .. } | Content::Attachment | Content::Data => return None,
    };
    let declared = stream.duration;
    if declared.is_some_and(|declared| (declared - length).abs() <= slack) {
        return None;
    }
    (stream.start, stream.duration) = (Some(found.from), Some(length));
    if let Content::Picture(picture) = &mut stream.content {
        // Holes are filled, so a count is known only where there are none.
        let even = picture.frame_rate.filter(|_| !picture.varies).map(|rate| (length * rate).round());
        picture.frames = u64::try_from(even.unwrap_or(-1)).ok().filter(|even| *even == found.frames);
    }
    let seconds = |time: Rational| format!("{:.2} s", time.to_f64());
    match declared {
        // Where the clock jumps, what headers say is only a difference of stamps.
        Some(declared) if !jumps => Some(format!(
            "Stream {} ({what}) lasts {}, not {} as its header says.",
            stream.index,
            seconds(length),
            seconds(declared)
        )),
        Some(_) | None => Some(format!("Stream {} ({what}) lasts {}.", stream.index, seconds(length))),
    }
}
