//! Drawing pictures before anybody asks for them.

use std::path::Path;

use beryl_core::problem::Problem;
use beryl_core::protocol::SourceRef;
use beryl_core::time::Rational;

use super::album::Album;
use super::draw::{Easel, Form, Look};
use super::walk::{RARE, Walk};

/// Seconds of a source after which it is known whether they are.
const KNOWN_AFTER: Rational = Rational::whole(6);
/// Seconds that are left over at least where going on means jumping.
const WORTH_A_JUMP: Rational = Rational::whole(2);
/// Later than any picture.
const NEVER: Rational = Rational::whole(1 << 40);

/// What is drawn ahead: the whole source in the look that was asked for last, from there on to the end, then
/// from the beginning.
#[derive(Default)]
pub(super) struct Ahead {
    /// Where it is to begin.
    aim: Option<(Look, Rational)>,
    filling: Option<Filling>,
    /// Key frames are near each other, or pictures cannot be drawn ahead.
    is_needless: bool,
}

struct Filling {
    album: Album,
    walk: Walk,
    easel: Easel,
    /// From when to when it goes on now, and afterwards.
    now: Option<(Rational, Rational)>,
    then: Option<(Rational, Rational)>,
    /// The time of the last picture, since the last jump.
    shown: Option<Rational>,
    /// Seconds of the source that were gone through.
    seen: Rational,
    /// The longest way from one key frame to the next.
    longest: Rational,
}

impl Ahead {
    /// The picture of a moment in this look, where it is drawn already.
    pub(super) fn picture(&self, look: &Look, at: Rational) -> Option<Vec<u8>> {
        let filling = self.filling.as_ref().filter(|filling| filling.album.look() == look)?;
        filling.album.picture(at)
    }

    /// Pictures in this look are wanted around a moment.
    pub(super) fn aim(&mut self, look: Look, at: Rational) {
        let is_there = self.picture(&look, at).is_some();
        if !self.is_needless && !is_there {
            self.aim = Some((look, at));
        }
    }

    /// Goes on a little; answers whether there is more to be done.
    pub(super) fn go_on(&mut self, source: &SourceRef, folder: &Path) -> bool {
        if self.is_needless {
            return false;
        }
        if let Some((look, at)) = self.aim.take() {
            self.begin(source, folder, look, at);
        }
        let Some(filling) = &mut self.filling else { return false };
        let goes_on = filling.go_on(source, folder).unwrap_or(false);
        if filling.seen > KNOWN_AFTER && filling.longest <= RARE {
            (self.is_needless, self.filling) = (true, None);
            return false;
        }
        goes_on
    }

    fn begin(&mut self, source: &SourceRef, folder: &Path, look: Look, at: Rational) {
        if self.filling.as_ref().is_none_or(|filling| *filling.album.look() != look) {
            self.filling = Album::new(look, folder).zip(Walk::open(source).ok()).map(|(album, walk)| Filling {
                album,
                walk,
                easel: Easel::default(),
                now: None,
                then: None,
                shown: None,
                seen: Rational::ZERO,
                longest: Rational::ZERO,
            });
        }
        match &mut self.filling {
            Some(filling) => {
                filling.then = Some((Rational::ZERO, at));
                filling.jump(at, NEVER);
            }
            None => self.is_needless = true,
        }
    }
}

impl Filling {
    fn jump(&mut self, from: Rational, to: Rational) {
        self.walk.jump(from, false);
        (self.now, self.shown) = (Some((from, to)), None);
    }

    /// Decodes the next packet and draws what comes of it; answers whether there is more to be done.
    fn go_on(&mut self, source: &SourceRef, folder: &Path) -> Result<bool, Problem> {
        let Some((from, to)) = self.now.filter(|_| !self.album.is_full()) else { return Ok(false) };
        let mut frames = Vec::new();
        self.walk.go_on(|time, frame| frames.push((time, frame)))?;
        for (time, frame) in frames {
            self.longest = self.longest.max(self.walk.since_key(time));
            if let Some(before) = self.shown.replace(time).filter(|before| *before < time) {
                self.album.cover(before, time);
                self.seen = self.seen + (time - before);
            }
            if !self.album.has(time) {
                let bytes = self.easel.draw(source, &self.walk, frame, self.album.look(), Form::Jpeg, folder)?;
                if self.album.add(time, &bytes).is_err() {
                    return Ok(false);
                }
            }
            let known_until = self.album.end_of_stretch(time).filter(|_| from <= time);
            if to <= time || known_until.is_some_and(|end| to <= end) {
                return Ok(self.next_range());
            }
            if let Some(end) = known_until.filter(|end| time + WORTH_A_JUMP < *end) {
                self.jump(end, to);
                return Ok(true);
            }
        }
        if self.walk.is_at_end() {
            if let Some(last) = self.shown {
                self.album.cover(last, NEVER);
            }
            return Ok(self.next_range());
        }
        Ok(true)
    }

    fn next_range(&mut self) -> bool {
        self.now = None;
        if let Some((from, to)) = self.then.take().filter(|(from, to)| from < to) {
            self.jump(from, to);
        }
        self.now.is_some()
    }
}
