//! Pictures looked at again: whether what was decoded on the way is what the source holds, and whether what
//! went into an encoder is what the file holds.

use std::collections::BTreeSet;
use std::time::Duration;

use beryl_core::after::check::{Look, LookAt};
use beryl_core::problem::Problem;
use beryl_core::protocol::SourceRef;
use beryl_core::time::Rational;

use crate::job::cost::thread_time;
use crate::raw::{AvError, Decoder, Frame, Graph, GraphInput, Packet, Stop};
use crate::source::PacketSource;

/// Areas across and down into which a picture is divided.
const AREAS: (usize, usize) = (32, 18);
/// So many moments are kept at most while a stream goes by.
const MOST_KEPT: usize = 12;
/// So many of them are looked at again, if that costs no more than it may.
const MOST_LOOKED_AT: usize = 5;
/// They are looked at in this order: by the end, all mistakes of the way have come together.
const ORDER: [usize; MOST_LOOKED_AT] = [4, 0, 2, 1, 3];
/// Frames that are decoded in search of a moment at most, after the nearest key frame.
const MOST_DECODED: usize = 700;
/// Pictures that differ by more than this, in thousandths, are looked at once more from further back: decoding may
/// not have begun where it should.
const SUSPICIOUS: u32 = 20;

/// The mean brightness of each area, from 0 to 255.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Sketch(Vec<u8>);

impl Sketch {
    /// Of a picture of any form, by its codes: ranges and matrices are left as they are.
    fn of(frame: &Frame) -> Result<Self, AvError> {
        let input = GraphInput::of_picture(frame, Rational::ONE);
        let (across, down) = AREAS;
        let filters = format!("scale=w={across}:h={down}:flags=area:in_range=tv:out_range=tv,format=pix_fmts=gray");
        let mut graph = Graph::new(&input, &filters)?;
        let mut frame = frame.clone();
        frame.set_times(0, 1);
        graph.push(Some(frame))?;
        graph.push(None)?;
        let small = graph.pull()?.ok_or_else(|| AvError::own("look at a picture", "the filters gave none"))?;
        let lines = (0..down).filter_map(|line| small.line(0, line, across)).flatten().copied().collect();
        Ok(Self(lines))
    }

    /// The mean difference of areas, in thousandths of full scale.
    fn difference(&self, other: &Self) -> u32 {
        let sum: u32 = self.0.iter().zip(&other.0).map(|(one, other)| u32::from(one.abs_diff(*other))).sum();
        let count = u32::try_from(self.0.len().min(other.0.len())).unwrap_or(1).max(1);
        sum * 1000 / (count * 255)
    }
}

/// A few pictures of a stream, evenly spread however long it becomes.
#[derive(Debug)]
pub(crate) struct Sketches {
    kept: Vec<(Rational, Sketch)>,
    /// The latest moment so far.
    latest: Option<Rational>,
    every: u64,
    seen: u64,
}

impl Default for Sketches {
    fn default() -> Self {
        Self { kept: Vec::new(), latest: None, every: 1, seen: 0 }
    }
}

impl Sketches {
    /// Takes the next picture of the stream.
    pub(crate) fn take(&mut self, frame: &Frame, time: Rational) -> Result<(), AvError> {
        if self.latest.is_some_and(|latest| time <= latest) {
            // Which of two pictures is meant by a moment from here on, nobody can tell.
            self.kept.retain(|(kept, _)| *kept < time);
            return Ok(());
        }
        self.latest = Some(time);
        if self.seen.is_multiple_of(self.every) {
            if self.kept.len() == MOST_KEPT {
                let mut place = 0;
                self.kept.retain(|_| {
                    place += 1;
                    place % 2 == 1
                });
                self.every *= 2;
            }
            if self.seen.is_multiple_of(self.every) {
                self.kept.push((time, Sketch::of(frame)?));
            }
        }
        self.seen += 1;
        Ok(())
    }

    /// Some of them, evenly spread, the last and the first before all others.
    fn chosen(&self) -> Vec<&(Rational, Sketch)> {
        let last = self.kept.len().saturating_sub(1);
        let mut places: Vec<usize> = ORDER.iter().map(|place| place * last / (MOST_LOOKED_AT - 1)).collect();
        let mut known = BTreeSet::new();
        places.retain(|place| known.insert(*place));
        places.into_iter().filter_map(|place| self.kept.get(place)).collect()
    }

    /// Looks at the chosen moments by `look`, one at least, and the others as long as processor time is left of `allowance`.
    fn look_at(
        &self,
        allowance: Duration,
        mut look: impl FnMut(Rational, &Sketch) -> Result<Option<Look>, Problem>,
    ) -> Result<Vec<Look>, Problem> {
        let began = thread_time();
        let mut looks = Vec::new();
        for (time, sketch) in self.chosen() {
            if !looks.is_empty() && thread_time().saturating_sub(began) > allowance {
                break;
            }
            looks.extend(look(*time, sketch)?);
        }
        Ok(looks)
    }
}

/// Looks at moments of a source again, each decoded by itself. Times are those of the source's own stamps;
/// moments that cannot be found again say nothing, since not every file can be entered everywhere.
pub(crate) fn of_source(
    source: &SourceRef,
    stream: usize,
    sketches: &Sketches,
    origin: Rational,
    allowance: Duration,
) -> Result<Vec<Look>, Problem> {
    sketches.look_at(allowance, |time, sketch| {
        let found = again_as(sketch, source, stream, time, Rational::whole(30))?;
        Ok(found.map(|found| Look { at: LookAt::Source, time: time - origin, difference: Some(found.difference(sketch)) }))
    })
}

/// Looks at a finished file at the moments at which pictures went into its encoder.
pub(crate) fn of_file(file: &SourceRef, sketches: &Sketches, allowance: Duration) -> Result<Vec<Look>, Problem> {
    let packets = PacketSource::open(file, &Stop::default())?;
    let Some(stream) = packets.moving_picture() else { return Ok(Vec::new()) };
    drop(packets);
    sketches.look_at(allowance, |time, sketch| {
        // Frames that are shown before a key frame but stored behind it need the one before.
        let found = again_as(sketch, file, stream, time, Rational::whole(15))?;
        Ok(Some(Look { at: LookAt::File, time, difference: found.map(|found| found.difference(sketch)) }))
    })
}

/// The picture that a stream shows at a moment. Where it is not found, or is not like `sketch`, decoding begins once more
/// `earlier` seconds before, and leaves out nothing.
fn again_as(
    sketch: &Sketch,
    file: &SourceRef,
    stream: usize,
    time: Rational,
    earlier: Rational,
) -> Result<Option<Sketch>, Problem> {
    let found = again(file, stream, time, time, true)?;
    if found.as_ref().is_none_or(|found| found.difference(sketch) > SUSPICIOUS) {
        return again(file, stream, time, time - earlier, false);
    }
    Ok(found)
}

/// The picture that a stream shows at a moment, decoded from the last key frame before `from` on. In a hurry, frames
/// before the moment are left out where no other refers to them.
fn again(file: &SourceRef, stream: usize, time: Rational, from: Rational, in_a_hurry: bool) -> Result<Option<Sketch>, Problem> {
    let mut packets = PacketSource::open(file, &Stop::default())?;
    let clock = packets.clock(stream);
    let Ok(mut decoder) = Decoder::open(packets.stream(stream), Some(1)) else { return Ok(None) };
    packets.keep_only(&[stream]);
    packets.seek(from.max(packets.zero()));
    // Half a tick of the file's clock, where stamps were rounded to it, and a little for clocks that were converted.
    let near = clock * Rational::constant(1, 2) + Rational::constant(1, 20_000);
    let mut decoded = 0;
    loop {
        // A damaged packet costs its frame and no more.
        let packet = packets.read().ok().flatten();
        if packet.as_ref().is_some_and(|packet| packet.stream() != stream) {
            continue;
        }
        let shown = packet.as_ref().and_then(Packet::pts).map(|ticks| Rational::whole(ticks) * clock);
        decoder.hurry(in_a_hurry && shown.is_some_and(|shown| shown + near < time));
        drop(decoder.send(packet.as_ref()));
        while let Ok(Some(frame)) = decoder.receive() {
            decoded += 1;
            let Some(at) = frame.best_time().map(|at| Rational::whole(at) * clock) else { continue };
            if (at - time).abs() <= near {
                return Ok(Sketch::of(&frame).ok());
            }
            if at > time + near || decoded > MOST_DECODED {
                return Ok(None);
            }
        }
        if packet.is_none() {
            return Ok(None);
        }
    }
}
