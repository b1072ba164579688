//! Taking parts of a source: where to read, and which frames and samples belong to a part.

use beryl_core::parts::{Span, total};
use beryl_core::rational::Rational;

use crate::raw::{AvError, Frame, Packet};
use crate::source::PacketSource;

/// The parts that a pass takes, and the moment of the source's clock that they count from.
#[derive(Debug, Clone)]
pub(super) struct Cut {
    pub(super) zero: Rational,
    pub(super) parts: Vec<Span>,
}

impl Cut {
    /// By how many seconds what belongs to a part moves from the source's clock to the output's.
    pub(super) fn shift(&self, part: usize) -> Rational {
        let before = total(&self.parts[..part]);
        before - self.zero - self.parts[part].from
    }

    /// Whether a moment of the source's clock belongs to a part.
    pub(super) fn holds(&self, part: usize, time: Rational) -> bool {
        let at = time - self.zero;
        self.parts.get(part).is_some_and(|span| span.from <= at && at < span.to)
    }

    /// Whether a moment of the source's clock lies behind a part.
    pub(super) fn is_behind(&self, part: usize, time: Rational) -> bool {
        time - self.zero >= self.parts[part].to
    }
}

/// Decoders of sound need what was before, and the clocks of decoding run ahead of those of showing.
const LEAD: Rational = Rational::constant(1, 2);

/// Goes to where a part begins: to a key frame of `picture` before it, wherever the format's index
/// leads. The packets from there on that were read to make sure are returned.
pub(super) fn go_to(
    packets: &mut PacketSource,
    cut: &Cut,
    part: usize,
    picture: Option<usize>,
) -> Result<Vec<Packet>, crate::raw::OpenError> {
    let from = cut.zero + cut.parts[part].from;
    let mut lead = LEAD;
    loop {
        let target = from - lead;
        packets.seek(target.max(cut.zero));
        let mut read = Vec::new();
        let Some(picture) = picture else { return Ok(read) };
        let clock = packets.clock(picture);
        while let Some(packet) = packets.read()? {
            let is_key = packet.stream() == picture && packet.is_key();
            let time = packet.pts().or(packet.dts()).map(|time| Rational::whole(time) * clock);
            // Pictures before the first key frame cannot be decoded.
            if packet.stream() != picture || is_key {
                read.push(packet);
            }
            if is_key {
                if time.is_none_or(|time| time <= from) || target <= cut.zero {
                    return Ok(read);
                }
                break;
            }
        }
        if target <= cut.zero {
            return Ok(read);
        }
        lead = lead * Rational::whole(4);
    }
}

/// Frames of one stream as they lie in the output.
pub(super) struct Cutter<'a> {
    cut: &'a Cut,
    part: usize,
    clock: Rational,
    /// Ticks that a frame of picture usually lasts; nothing for sound.
    usual: Option<i64>,
    /// A picture and its time: it is shown until the next one comes.
    shown: Option<(Frame, i64)>,
    next: Option<i64>,
}

/// A frame and its time and length in the output, in ticks of its stream.
pub(super) struct Placed {
    pub(super) frame: Frame,
    pub(super) time: i64,
    pub(super) length: i64,
}

impl<'a> Cutter<'a> {
    pub(super) fn new(cut: &'a Cut, clock: Rational, usual: Option<i64>) -> Self {
        Self { cut, part: 0, clock, usual, shown: None, next: None }
    }

    /// From now on frames of this part come. What is left of the one before is returned.
    pub(super) fn begin(&mut self, part: usize) -> Option<Placed> {
        let left = self.end();
        (self.part, self.next) = (part, None);
        left
    }

    /// No frame comes any more: the last picture is returned where it belongs to the part.
    pub(super) fn end(&mut self) -> Option<Placed> {
        let (frame, time) = self.shown.take()?;
        let length = if frame.duration() > 0 { frame.duration() } else { self.usual.unwrap_or(1) };
        self.picture(frame, time, time + length)
    }

    fn ticks(&self, seconds: Rational) -> i64 {
        seconds.divided_by(self.clock).map_or(0, Rational::round)
    }

    /// What of a frame belongs to the part: sound as it comes, pictures one later, when it is known how
    /// long they are shown.
    pub(super) fn take(&mut self, frame: Frame) -> Result<Option<Placed>, AvError> {
        let time = frame.best_time().or(self.next).unwrap_or(0);
        let Some(usual) = self.usual else { return self.sound(&frame, time) };
        self.next = Some(time + usual);
        let before = self.shown.replace((frame, time));
        Ok(before.and_then(|(frame, begins)| self.picture(frame, begins, time)))
    }

    /// A picture that is shown from one tick to another. Of one that lies on the border of a part, half
    /// must belong to it: clocks of files are too coarse for less.
    fn picture(&self, frame: Frame, begins: i64, ends: i64) -> Option<Placed> {
        let span = self.cut.parts[self.part];
        let shown = Span { from: self.at(begins), to: self.at(ends.max(begins + 1)) };
        let common = shown.common(span)?;
        let usual = Rational::whole(self.usual.unwrap_or(1)) * self.clock;
        if common.length() + common.length() < shown.length().min(usual) {
            return None;
        }
        let time = self.shown_at(common.from);
        Some(Placed { frame, time, length: (self.shown_at(common.to) - time).max(1) })
    }

    fn sound(&mut self, frame: &Frame, time: i64) -> Result<Option<Placed>, AvError> {
        let rate = Rational::whole(i64::from(frame.sample_rate()).max(1));
        let seconds = |samples: i64| Rational::whole(samples).divided_by(rate).unwrap_or(Rational::ZERO);
        let count = i64::from(frame.samples());
        self.next = Some(time + self.ticks(seconds(count)));
        let (span, at) = (self.cut.parts[self.part], self.at(time));
        let first = ((span.from - at) * rate).round().clamp(0, count);
        let end = ((span.to - at) * rate).round().clamp(first, count);
        if first == end {
            return Ok(None);
        }
        let piece = if first == 0 && end == count { frame.clone() } else { frame.piece(first, end - first)? };
        Ok(Some(Placed { frame: piece, time: self.shown_at(at + seconds(first)), length: self.ticks(seconds(end - first)) }))
    }

    /// A tick of the stream in seconds from the source's first frame.
    fn at(&self, ticks: i64) -> Rational {
        Rational::whole(ticks) * self.clock - self.cut.zero
    }

    /// When a moment of the source is shown in the output.
    fn shown_at(&self, at: Rational) -> i64 {
        self.ticks(at - self.cut.parts[self.part].from + total(&self.cut.parts[..self.part]))
    }
}
