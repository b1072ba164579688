//! Carrying one clock over the jumps of a file's own.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::time::Rational;

/// Time stamps that go this far forward at once, in formats that allow their clock to jump, are another clock.
const FORWARD: Rational = Rational::whole(10);
/// In other formats a step forward is a pause, unless it is as long as this.
const LONGEST_PAUSE: Rational = Rational::whole(6 * 3600);
/// Time stamps that go this far back at once are another clock: no reordering of frames reaches so far.
const BACKWARD: Rational = Rational::ONE;
/// Nor over so many frames, where each is shown for long and stamps are those of showing.
const REORDERED: Rational = Rational::whole(16);
/// Streams of one clock are this close to each other where they are stored.
const APART: Rational = Rational::whole(5);
/// So many seconds behind a jump, no packet from before it is still to come.
const SETTLED: Rational = Rational::whole(2);

/// A place at which the clock of a file jumps.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Jump {
    /// Seconds of the continuous clock.
    pub at: Rational,
    /// By how many seconds the file's own clock goes forward there, or back.
    pub by: Rational,
}

/// A place in a file whose clock jumps from which reading can begin: a key frame, between jumps.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Anchor {
    /// Seconds of the continuous clock.
    pub at: Rational,
    /// Bytes from the beginning of the file.
    pub byte: u64,
    /// By how many seconds the file's own time stamps move there.
    pub shift: Rational,
}

/// Brings the time stamps of all streams of a file to one clock that goes on where the file's own jumps:
/// two recordings in one stream, an edit, a wrap that the format's reader did not see.
///
/// A jump is found in one stream, as a distance from where that stream had come to. It opens a new
/// *stretch* with a shift of its own; other streams, whose packets of the old stretch may still be to
/// come, follow by the shift that puts them next to where they are, so that all move alike.
#[derive(Debug, Clone)]
pub struct Continuity {
    /// A step forward as long as this is a jump.
    forward: Rational,
    /// The shifts of all stretches so far, the latest last.
    shifts: Vec<Rational>,
    /// Shifts that reading all streams of the file once has shown.
    known: Vec<Rational>,
    /// Where each stream has come to, on the continuous clock.
    reached: BTreeMap<usize, Rational>,
    jumps: Vec<Jump>,
}

impl Continuity {
    /// For a format whose clock may jump forward (transport and program streams), or for one in which
    /// long steps are pauses.
    #[must_use]
    pub fn new(jumps_forward: bool) -> Self {
        let forward = if jumps_forward { FORWARD } else { LONGEST_PAUSE };
        Self { forward, shifts: vec![Rational::ZERO], known: Vec::new(), reached: BTreeMap::new(), jumps: Vec::new() }
    }

    /// The same, for a file that was read before: which stream meets a jump first, and how long the packets before it
    /// last, depends on what is read of it; these shifts are those of all streams.
    #[must_use]
    pub fn knowing(self, anchors: &[Anchor]) -> Self {
        Self { known: anchors.iter().map(|anchor| anchor.shift).collect(), ..self }
    }

    /// By how many seconds the packet of a stream moves that is stamped with this time of decoding and
    /// lasts so long. Packets come in the order of the file.
    pub fn shift(&mut self, stream: usize, time: Rational, length: Rational) -> Rational {
        let latest = self.shifts.last().copied().unwrap_or(Rational::ZERO);
        let Some(here) = self.reached.get(&stream).copied().or_else(|| self.reached.values().max().copied()) else {
            self.reached.insert(stream, time + latest + length);
            return latest;
        };
        let backward = BACKWARD.max(length * REORDERED);
        let goes_on = |shift: Rational| {
            let step = time + shift - here;
            step > -backward && step < self.forward
        };
        let is_new = !self.reached.contains_key(&stream);
        let nearest = self.shifts.iter().rev().copied().filter(|shift| goes_on(*shift));
        let shift = match nearest.min_by_key(|shift| (time + *shift - here).abs()) {
            Some(shift) => shift,
            // A stream that begins far from the others has no clock to go on with: it keeps theirs.
            None if is_new => latest,
            None => {
                // What others have reached beyond this stream counts too where it is near: all go on together.
                let others = self.reached.values().copied().filter(|other| (*other - here).abs() < APART).max().unwrap_or(here);
                let own = here - time;
                let known = self.known.iter().copied().min_by_key(|shift| (*shift - own).abs());
                let shift = known.filter(|shift| (*shift - own).abs() < BACKWARD).unwrap_or(own);
                let jump = Jump { at: others, by: -(shift - latest) };
                // Parts that overlap where they are read meet the same jump.
                if self.jumps.iter().all(|known| (known.at - jump.at).abs() > BACKWARD) {
                    self.jumps.push(jump);
                }
                self.shifts.push(shift);
                shift
            }
        };
        let end = time + shift + length;
        let reached = self.reached.entry(stream).or_insert(end);
        *reached = end.max(*reached - backward);
        shift
    }

    /// Begins anew after reading went elsewhere in the file, where time stamps move by `shift`. Jumps stay known.
    pub fn begin_elsewhere(&mut self, shift: Rational) {
        self.reached.clear();
        self.shifts = vec![shift];
    }

    /// By how much time stamps move here, where all streams that were met lately are behind the last jump.
    #[must_use]
    pub fn settled_shift(&self) -> Option<Rational> {
        let at = self.jumps.last().map(|jump| jump.at);
        let all_behind =
            at.is_none_or(|at| self.reached.values().all(|reached| *reached > at + SETTLED || *reached < at - APART));
        self.shifts.last().copied().filter(|_| all_behind)
    }

    /// The jumps that were met so far, in the order in which they were met; each once.
    #[must_use]
    pub fn jumps(&self) -> &[Jump] {
        &self.jumps
    }
}
