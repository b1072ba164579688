//! Pictures looked at again: whether what was decoded on the way is what the source holds, and whether what
//! went into an encoder is what the file holds.

use beryl_core::check::{Look, LookAt};
use beryl_core::problem::Problem;
use beryl_core::protocol::SourceRef;
use beryl_core::rational::Rational;

use crate::raw::{AvError, Decoder, Frame, Graph, GraphInput, Stop};
use crate::source::PacketSource;

/// Areas across and down into which a picture is divided.
const AREAS: (usize, usize) = (32, 18);
/// So many moments are kept at most while a stream goes by.
const MOST_KEPT: usize = 24;
/// So many of them are looked at again.
const MOST_LOOKED_AT: usize = 5;
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

    /// Some of them, evenly spread, the first and the last among them.
    fn chosen(&self) -> Vec<&(Rational, Sketch)> {
        let most = MOST_LOOKED_AT.min(self.kept.len());
        let last = self.kept.len().saturating_sub(1);
        (0..most).filter_map(|place| self.kept.get(place * last / most.saturating_sub(1).max(1))).collect()
    }
}

/// Looks at moments of a source again, each decoded by itself. Times are those of the source's own stamps;
/// moments that cannot be found again say nothing, since not every file can be entered everywhere.
pub(crate) fn of_source(source: &SourceRef, stream: usize, sketches: &Sketches, origin: Rational) -> Result<Vec<Look>, Problem> {
    let mut looks = Vec::new();
    for (time, sketch) in sketches.chosen() {
        let mut found = again(source, stream, *time, *time)?;
        if found.as_ref().is_none_or(|found| found.difference(sketch) > SUSPICIOUS) {
            let earlier = *time - Rational::whole(30);
            found = again(source, stream, *time, earlier)?;
        }
        looks.extend(found.map(|found| Look {
            at: LookAt::Source,
            time: *time - origin,
            difference: Some(found.difference(sketch)),
        }));
    }
    Ok(looks)
}

/// Looks at a finished file at the moments at which pictures went into its encoder.
pub(crate) fn of_file(file: &SourceRef, sketches: &Sketches) -> Result<Vec<Look>, Problem> {
    let packets = PacketSource::open(file, &Stop::default())?;
    let Some(stream) = packets.moving_picture() else { return Ok(Vec::new()) };
    let mut looks = Vec::new();
    for (time, sketch) in sketches.chosen() {
        let mut found = again(file, stream, *time, *time)?;
        if found.is_none() {
            // Frames that are shown before a key frame but stored behind it need the one before.
            found = again(file, stream, *time, *time - Rational::whole(15))?;
        }
        looks.push(Look { at: LookAt::File, time: *time, difference: found.map(|found| found.difference(sketch)) });
    }
    Ok(looks)
}

/// The picture that a stream shows at a moment, decoded from the last key frame before `from` on.
fn again(file: &SourceRef, stream: usize, time: Rational, from: Rational) -> Result<Option<Sketch>, Problem> {
    let mut packets = PacketSource::open(file, &Stop::default())?;
    let clock = packets.clock(stream);
    let Ok(mut decoder) = Decoder::open(packets.stream(stream), true) else { return Ok(None) };
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
