//! Single pictures.

mod ahead;
mod album;
mod draw;
mod walk;

use std::collections::VecDeque;
use std::path::Path;

use beryl_core::problem::{Problem, ProblemKind};
use beryl_core::protocol::{FileRef, Scope, ShownField, SourceRef, StillShape};
use beryl_core::time::Rational;

use crate::raw::Frame;
use crate::source::{open_root, system_path};
use ahead::Ahead;
use draw::{Easel, Form, Look};
use walk::Walk;

/// Bytes of decoded frames that are kept, so that going back and forth needs no decoding.
const MOST_KEPT: usize = 600 << 20;
/// Seconds ahead up to which decoding goes on instead of jumping.
const GO_ON: Rational = Rational::constant(3, 2);
/// Narrower pictures are not drawn ahead: they come in rows, each from another moment.
const NARROWEST_AHEAD: u32 = 400;

/// Which picture of a source, and how.
#[derive(Debug, Clone, Copy)]
pub struct StillWish<'a> {
    /// Seconds of the source's clock from its first frame.
    pub at: Rational,
    /// Columns; a picture is never enlarged.
    pub width: u32,
    /// Which lines of it.
    pub field: ShownField,
    /// As an output would show it.
    pub shape: Option<&'a StillShape>,
    /// Measured in this way, in place of the picture.
    pub scope: Option<Scope>,
    /// Where to: a JPEG or, where the name ends in `.png`, a PNG without loss.
    pub output: &'a FileRef,
}

/// An open source from which single pictures are taken. Frames that were decoded on the way to one are
/// kept for the next; where key frames are rare, pictures are drawn before they are asked for.
pub struct Stills {
    source: SourceRef,
    walk: Walk,
    easel: Easel,
    /// Frames in a row with their times, which end with the last one that was decoded.
    kept: VecDeque<(Rational, Frame)>,
    ahead: Ahead,
}

impl Stills {
    /// Opens a source.
    ///
    /// # Errors
    /// A [`Problem`] where it cannot be read or has no picture.
    pub fn open(source: &SourceRef) -> Result<Self, Problem> {
        let walk = Walk::open(source)?;
        Ok(Self { source: source.clone(), walk, easel: Easel::default(), kept: VecDeque::new(), ahead: Ahead::default() })
    }

    /// Writes the picture that is shown at a moment, in its true shape; behind the end, the last one. What a
    /// shape needs beside the picture is put into `folder`.
    ///
    /// # Errors
    /// A [`Problem`] where the source has no picture there, or the file cannot be written.
    pub fn write(&mut self, wish: StillWish<'_>, folder: &Path) -> Result<(), Problem> {
        let form = if wish.output.path.name().ends_with(".png") { Form::Png } else { Form::Jpeg };
        let look = Look { width: wish.width, field: wish.field, shape: wish.shape.cloned(), scope: wish.scope };
        let waiting = match form {
            Form::Jpeg => self.ahead.picture(&look, wish.at),
            Form::Png => None,
        };
        let bytes = match waiting {
            Some(bytes) => bytes,
            None => {
                let name = self.walk.name().to_owned();
                let frame = self.frame_at(wish.at)?.ok_or_else(|| unreadable(&name, "not one frame could be decoded"))?;
                self.easel.draw(&self.source, &self.walk, frame, &look, form, folder)?
            }
        };
        if form == Form::Jpeg && wish.width >= NARROWEST_AHEAD && wish.scope.is_none() {
            self.ahead.aim(look, wish.at);
        }
        let written = open_root(wish.output)?.write(system_path(&wish.output.path), bytes);
        written.map_err(|error| Problem::from_io(format!("the picture {} could not be written", wish.output.path.name()), &error))
    }

    /// The frame that is shown at a moment.
    fn frame_at(&mut self, at: Rational) -> Result<Option<Frame>, Problem> {
        let first = self.kept.front().map(|(time, _)| *time);
        let last = self.kept.back().map(|(time, _)| *time);
        // Farther ahead than the next key frame it is quicker to jump.
        let ahead = self.walk.key_distance().map_or(GO_ON, |distance| distance.min(GO_ON));
        let is_near = first.is_some_and(|first| first <= at) && last.is_some_and(|last| at <= last + ahead);
        if !is_near && (at.is_positive() || !self.kept.is_empty()) {
            self.jump(at, true);
        }
        self.decode_until(at)?;
        let is_missing = |kept: &VecDeque<(Rational, Frame)>| kept.front().is_none_or(|(time, _)| at < *time);
        if self.walk.left_out().is_some() && is_missing(&self.kept) {
            // The frame is shown for so long that it was left out on the way.
            self.jump(at, false);
            self.decode_until(at)?;
        }
        let after = self.kept.partition_point(|(time, _)| *time <= at);
        let shown = self.kept.get(after.saturating_sub(1));
        Ok(shown.map(|(_, frame)| frame.clone()))
    }

    fn jump(&mut self, at: Rational, in_a_hurry: bool) {
        self.walk.jump(at, in_a_hurry);
        self.kept.clear();
    }

    fn decode_until(&mut self, at: Rational) -> Result<(), Problem> {
        while !self.walk.is_at_end() && self.kept.back().is_none_or(|(time, _)| *time < at) {
            self.decode_on()?;
        }
        Ok(())
    }

    /// Works a little ahead while nobody asks: decodes the frames that follow, then draws pictures of the whole
    /// source where key frames are rare. Answers whether there is more to be done.
    pub fn look_ahead(&mut self, folder: &Path) -> bool {
        let bytes = self.kept.back().map_or(0, |(_, frame)| frame.bytes());
        let has_room = (self.kept.len() + 1) * bytes < MOST_KEPT;
        if bytes > 0 && has_room && !self.walk.is_at_end() && self.decode_on().is_ok() {
            return true;
        }
        self.ahead.go_on(&self.source, folder)
    }

    /// Decodes the next packet, and keeps the frames that come of it.
    fn decode_on(&mut self) -> Result<(), Problem> {
        let kept = &mut self.kept;
        self.walk.go_on(|time, frame| {
            let bytes = frame.bytes().max(1);
            kept.push_back((time, frame));
            if kept.len() * bytes > MOST_KEPT && kept.len() > 2 {
                kept.pop_front();
            }
        })?;
        // Behind the last that was left out, frames stand in a row.
        let hole = self.walk.left_out();
        let before = self.kept.partition_point(|(time, _)| hole.is_some_and(|hole| *time <= hole));
        self.kept.drain(..before);
        Ok(())
    }
}

fn unreadable(name: &str, why: &str) -> Problem {
    Problem::new(ProblemKind::Unsupported, format!("no picture of {name} could be made"), why)
}

/// One picture of a source.
///
/// # Errors
/// A [`Problem`] where the source has no picture there, or the file cannot be written.
pub fn still(source: &SourceRef, wish: StillWish<'_>, folder: &Path) -> Result<(), Problem> {
    Stills::open(source)?.write(wish, folder)
}
