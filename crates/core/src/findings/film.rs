//! Bringing film frames back from the fields they were spread over.
//!
//! The stretches that a scan found say of each frame of video which film frame it brings to its end
//! and where its two fields are. Times are counted in quarters of a video frame: a film frame of 3:2
//! or 2:3:3:2 material lasts five of them.

use crate::findings::{FieldMatch, Pulldown, Stretch, StretchKind};
use crate::picture::FieldOrder;
use crate::time::Rational;

/// Ticks of a frame of video.
pub const TICKS_OF_VIDEO: i64 = 4;

/// The clock of the ticks, in seconds, behind video of this rate.
#[must_use]
pub fn clock(video: Rational) -> Rational {
    (video * Rational::whole(TICKS_OF_VIDEO)).inverse().unwrap_or(Rational::ONE)
}

/// What is made of one frame of video.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Made {
    /// A film frame, at this tick and for so many.
    Film {
        /// Where its fields are.
        fields: FieldMatch,
        /// Which field of a frame is the first.
        first: FieldOrder,
        /// When it is shown.
        tick: i64,
        /// How long.
        ticks: i64,
    },
    /// The frame itself, which has fields in this order or none.
    Video {
        /// Its fields.
        fields: FieldOrder,
        /// When it is shown.
        tick: i64,
    },
    /// Nothing: the film frame comes to its end with the next frame, or has lost its other field in an edit.
    Nothing,
}

/// Goes through the frames of a source and says what is made of each.
#[derive(Debug, Clone)]
pub struct FilmFrames<'a> {
    stretches: &'a [Stretch],
    all_film: bool,
    at: usize,
    next: i64,
}

impl<'a> FilmFrames<'a> {
    /// For a source with these stretches.
    #[must_use]
    pub fn new(stretches: &'a [Stretch]) -> Self {
        let film = |stretch: &Stretch| matches!(stretch.kind, StretchKind::Telecine { .. });
        Self { stretches, all_film: stretches.iter().all(film), at: 0, next: 0 }
    }

    /// What is made of the frame with this number; frames come in order. Frames behind the last
    /// stretch are taken as belonging to it.
    pub fn take(&mut self, frame: u64) -> Made {
        while self.at + 1 < self.stretches.len() && frame >= self.stretches[self.at].end_frame {
            self.at += 1;
        }
        let Some(stretch) = self.stretches.get(self.at) else { return Made::Nothing };
        let place = i64::try_from(frame).unwrap_or(i64::MAX / 8);
        match stretch.kind {
            StretchKind::Telecine { pulldown, first, phase } => {
                let (fields, film) = pulldown.field_match(place + i64::from(phase));
                let needs_previous = matches!(fields, FieldMatch::FirstWithPrevious | FieldMatch::SecondWithPrevious);
                if fields == FieldMatch::Nothing || (needs_previous && frame == stretch.first_frame) {
                    return Made::Nothing;
                }
                let (begin, ticks) = film_time(pulldown, phase, film);
                match self.settle(begin, ticks) {
                    Some(tick) => Made::Film { fields, first, tick, ticks },
                    None => Made::Nothing,
                }
            }
            StretchKind::Progressive => self.video(place, FieldOrder::Progressive),
            StretchKind::Interlaced { first } => self.video(place, first),
        }
    }

    fn video(&mut self, place: i64, fields: FieldOrder) -> Made {
        match self.settle(place * TICKS_OF_VIDEO, TICKS_OF_VIDEO) {
            Some(tick) => Made::Video { fields, tick },
            None => Made::Nothing,
        }
    }

    /// The time of a frame whose own time is `begin`.
    ///
    /// Where all is film, frames follow one another on a grid of their own length. An edit may shift
    /// them by less than one frame; where edits add up to a whole one, a frame is repeated to catch up,
    /// or left out. In mixtures each keeps its own time, as far as time does not run backward.
    fn settle(&mut self, begin: i64, ticks: i64) -> Option<i64> {
        let behind = begin - self.next;
        if !self.all_film {
            let tick = begin.max(self.next);
            self.next = tick + 1;
            return Some(tick);
        }
        if behind <= -ticks {
            return None;
        }
        let tick = self.next + behind.max(0) / ticks * ticks;
        self.next = tick + ticks;
        Some(tick)
    }
}

/// When a film frame begins, and how long it lasts.
fn film_time(pulldown: Pulldown, phase: u8, film: i64) -> (i64, i64) {
    let before = i64::from(phase) * TICKS_OF_VIDEO;
    match pulldown {
        Pulldown::ThreeTwo | Pulldown::TwoThreeThreeTwo => (film * 5 - before, 5),
        // Film frame one begins with the second field of frame nought.
        Pulldown::TwoTwo => (film * TICKS_OF_VIDEO - before - TICKS_OF_VIDEO / 2, TICKS_OF_VIDEO),
    }
}

/// Film frames that come at uneven distances, because flags ask a player to show fields of some of them again:
/// each gets the time that it had in the film.
#[derive(Debug, Clone)]
pub struct EvenFrames {
    rate: Rational,
    /// The time of the first frame, in seconds, and the place of the next on the grid of the film.
    begins: Option<Rational>,
    next: i64,
}

impl EvenFrames {
    /// For film of so many frames a second.
    #[must_use]
    pub const fn new(rate: Rational) -> Self {
        Self { rate, begins: None, next: 0 }
    }

    /// The place, in frames from the first, of the frame that is shown from `time` on, in seconds. Frames follow one
    /// another without a gap as long as they are less than one frame from their place; where frames are missing the
    /// places between stay empty, and one that comes a whole frame too early has none.
    pub fn take(&mut self, time: Rational) -> Option<i64> {
        let begins = *self.begins.get_or_insert(time);
        let behind = (time - begins) * self.rate - Rational::whole(self.next);
        if behind <= -Rational::ONE {
            return None;
        }
        let place = self.next + behind.max(Rational::ZERO).floor();
        self.next = place + 1;
        Some(place)
    }
}

/// How many frames come out of a source that is film from end to end, repeated ones counted.
#[must_use]
pub fn film_frame_count(stretches: &[Stretch]) -> u64 {
    let mut film = FilmFrames::new(stretches);
    let end = stretches.last().map_or(0, |stretch| stretch.end_frame);
    let slots = (0..end).filter_map(|frame| match film.take(frame) {
        Made::Film { tick, ticks, .. } => Some(tick / ticks + 1),
        Made::Video { .. } | Made::Nothing => None,
    });
    slots.max().and_then(|slots| u64::try_from(slots).ok()).unwrap_or(0)
}
