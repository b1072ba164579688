//! The track of a picture: each frame at its place, in order, shown until the next.

use std::cmp::Reverse;
use std::collections::{BinaryHeap, VecDeque};

use super::{Takes, ticks};
use crate::time::{Rational, Span};

/// So many frames with one time stamp are spread over the time to the next; more follow at the usual distance.
const MOST_ALIKE: usize = 32;
/// Stamps beyond this are none: sums of them must not overflow.
const LAST_TICK: i64 = 1 << 52;

/// A frame at its place in what is made.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PlacedPicture<F> {
    /// The frame.
    pub frame: F,
    /// Where it begins, in ticks of the stream's clock from the beginning of what is made.
    pub time: i64,
    /// How long it is shown, in the same ticks: at least one.
    pub length: i64,
    /// Whether it stands where the source has no picture yet.
    pub leads: bool,
}

/// Brings the frames of one stream to their places.
#[derive(Debug)]
pub struct PictureTrack<F> {
    takes: Takes,
    part: usize,
    clock: Rational,
    /// Ticks that a frame usually lasts.
    usual: i64,
    order: Order<F>,
    /// Frames whose length is not known yet: one, or several with one stamp.
    waiting: VecDeque<F>,
    /// The stamp of those, and the duration that the last of them declares.
    stamp: i64,
    declared: i64,
    /// Where the last frame that was handed out ends.
    placed_to: Option<i64>,
}

/// Frames whose stamps come in the order of decoding are given them in the order of showing.
#[derive(Debug)]
struct Order<F> {
    depth: usize,
    frames: VecDeque<(F, i64)>,
    stamps: BinaryHeap<Reverse<i64>>,
}

impl<F> Order<F> {
    fn take(&mut self, frame: F, stamp: i64, duration: i64) -> Option<(F, i64, i64)> {
        self.frames.push_back((frame, duration));
        self.stamps.push(Reverse(stamp));
        if self.frames.len() > self.depth { self.next() } else { None }
    }

    fn next(&mut self) -> Option<(F, i64, i64)> {
        let (frame, duration) = self.frames.pop_front()?;
        Some((frame, self.stamps.pop()?.0, duration))
    }
}

impl<F: Clone> PictureTrack<F> {
    /// For a stream with this clock (seconds of a tick), whose frames usually last so many ticks.
    ///
    /// `depth` is how many frames may be decoded before they are shown where the file stamps frames in the
    /// order of decoding; nought where it stamps them as they are shown.
    #[must_use]
    pub fn new(takes: Takes, clock: Rational, usual: i64, depth: usize) -> Self {
        let order = Order { depth, frames: VecDeque::new(), stamps: BinaryHeap::new() };
        Self {
            takes,
            part: 0,
            clock,
            usual: usual.max(1),
            order,
            waiting: VecDeque::new(),
            stamp: 0,
            declared: 0,
            placed_to: None,
        }
    }

    /// Stamps come in the order of decoding from now on, so many frames ahead.
    pub fn reorder(&mut self, depth: usize) {
        self.order.depth = self.order.depth.max(depth);
    }

    /// From now on frames of this part come. What is left of the one before comes out.
    pub fn begin(&mut self, part: usize) -> Vec<PlacedPicture<F>> {
        let left = self.end();
        (self.part, self.placed_to) = (part, None);
        left
    }

    /// Takes a frame as it was decoded, with its stamp and the duration that it declares, in ticks.
    pub fn take(&mut self, frame: F, stamp: Option<i64>, duration: i64) -> Vec<PlacedPicture<F>> {
        let stamp = stamp.unwrap_or_else(|| self.expected()).clamp(-LAST_TICK, LAST_TICK);
        let duration = duration.clamp(0, LAST_TICK);
        match self.order.take(frame, stamp, duration) {
            Some((frame, stamp, duration)) => self.follow(frame, stamp, duration),
            None => Vec::new(),
        }
    }

    /// No frame comes any more in this part.
    pub fn end(&mut self) -> Vec<PlacedPicture<F>> {
        let mut placed = Vec::new();
        while let Some((frame, stamp, duration)) = self.order.next() {
            placed.extend(self.follow(frame, stamp, duration));
        }
        let count = i64::try_from(self.waiting.len()).unwrap_or(1);
        let length = if self.declared > 0 && count == 1 { self.declared } else { self.usual * count };
        placed.extend(self.spread(self.stamp + length));
        placed
    }

    /// Where the next frame is expected.
    fn expected(&self) -> i64 {
        match self.order.frames.back() {
            Some(_) => self.order.stamps.iter().map(|stamp| stamp.0).max().unwrap_or(self.stamp) + self.usual,
            None if self.waiting.is_empty() => ticks(self.takes.part(self.part).from, self.clock),
            None => self.stamp + self.usual,
        }
    }

    /// The next frame in the order of showing.
    fn follow(&mut self, frame: F, stamp: i64, duration: i64) -> Vec<PlacedPicture<F>> {
        let mut placed = Vec::new();
        if !self.waiting.is_empty() && stamp > self.stamp {
            placed = self.spread(stamp);
        } else if self.waiting.len() >= MOST_ALIKE {
            // The clock stands still: frames go on at their usual distance.
            let count = i64::try_from(self.waiting.len()).unwrap_or(1);
            let to = self.stamp + self.usual * count;
            placed = self.spread(to);
            self.stamp = to;
        }
        if self.waiting.is_empty() {
            // Time never runs backward, whatever a file says.
            self.stamp = if self.placed_to.is_some() { stamp.max(self.stamp) } else { stamp };
        }
        self.declared = duration;
        self.waiting.push_back(frame);
        placed
    }

    /// Hands out what waits, evenly over the time to `until`.
    fn spread(&mut self, until: i64) -> Vec<PlacedPicture<F>> {
        let count = i64::try_from(self.waiting.len()).unwrap_or(1).max(1);
        let begin = self.stamp;
        let reach = (until - begin).max(count);
        let mut placed = Vec::new();
        for (place, frame) in (0_i64..).zip(std::mem::take(&mut self.waiting)) {
            let at = |place: i64| begin + reach * place / count;
            self.place(frame, at(place), at(place + 1), &mut placed);
        }
        self.stamp = begin + reach - reach / count;
        placed
    }

    /// A frame that is shown from one tick of the source's clock to another. Of one that lies on the
    /// border of a part, half must belong to it: clocks of files are too coarse for less.
    fn place(&mut self, frame: F, begins: i64, ends: i64, placed: &mut Vec<PlacedPicture<F>>) {
        let at = |tick: i64| Rational::whole(tick) * self.clock;
        let span = self.takes.part(self.part);
        let shown = Span { from: at(begins), to: at(ends) };
        let Some(common) = shown.common(span) else { return };
        let usual = at(self.usual);
        if common.length() + common.length() < shown.length().min(usual) {
            return;
        }
        let in_made = |time: Rational| ticks(time + self.takes.shift(self.part), self.clock);
        let first = ticks(self.takes.begins_at(self.part), self.clock);
        let time = in_made(common.from).max(self.placed_to.unwrap_or(first));
        let end = in_made(common.to).max(time + 1);
        // What begins late stands from the beginning on: half a frame is no more than a coarse clock.
        if self.placed_to.is_none() && (time - first) * 2 > self.usual {
            placed.push(PlacedPicture { frame: frame.clone(), time: first, length: time - first, leads: true });
        }
        let time = if self.placed_to.is_none() && (time - first) * 2 <= self.usual { first } else { time };
        self.placed_to = Some(end);
        placed.push(PlacedPicture { frame, time, length: end - time, leads: false });
    }
}
