//! Reading packets and decoding them.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use beryl_core::problem::{Problem, ProblemKind};
use beryl_core::rational::Rational;
use crossbeam_channel::{Receiver, Sender};

use super::cost;
use super::cut::{self, Cut, Cutter, Placed};
use super::pass::{Shared, TimedFrame, ToWriter};
use super::work::{SourceTimes, Work};
use crate::raw::{Decoder, Frame, OpenError, Packet};
use crate::source::{PacketSource, problem_of};

/// What comes to a decoder.
pub(super) enum ToDecoder {
    Packet(Packet),
    /// What follows belongs to this part of the source.
    Part(usize),
}

/// Where the packets of a stream go.
pub(super) enum Route {
    Decode(Sender<ToDecoder>),
    Copies(Vec<Copy>),
    Both(Sender<ToDecoder>, Vec<Copy>),
}

impl Route {
    const fn decoder(&self) -> Option<&Sender<ToDecoder>> {
        match self {
            Self::Decode(decoder) | Self::Both(decoder, _) => Some(decoder),
            Self::Copies(_) => None,
        }
    }
}

/// A stream that goes untouched into an output.
pub(super) struct Copy {
    pub(super) slot: usize,
    pub(super) writer: Sender<ToWriter>,
    pub(super) shift: Rational,
    pub(super) clock: Rational,
}

/// Reads the source, or parts of it, and hands the packets out.
pub(super) struct ReadTask<'a> {
    pub(super) shared: Shared<'a>,
    pub(super) times: Arc<SourceTimes>,
    pub(super) cut: Option<Arc<Cut>>,
    /// The stream whose key frames parts are looked for by.
    pub(super) picture: Option<usize>,
}

/// Streams whose packets come this many seconds behind those of another are not waited for.
const MOST_APART: Rational = Rational::whole(10);

impl ReadTask<'_> {
    pub(super) fn run(self, mut packets: PacketSource, mut routes: BTreeMap<usize, Route>) {
        packets.keep_only(&routes.keys().copied().collect::<Vec<_>>());
        let Some(cut) = self.cut.clone() else { return self.read(&mut packets, &mut routes, None) };
        for part in 0..cut.parts.len() {
            for decoder in routes.values().filter_map(Route::decoder) {
                // One that has gone is found out with its next packet.
                drop(decoder.send(ToDecoder::Part(part)));
            }
            let read = match cut::go_to(&mut packets, &cut, part, self.picture) {
                Ok(read) => read,
                Err(error) => return self.give_up(&packets, error),
            };
            for packet in read {
                self.pass_on(packet, &mut routes, Some((&cut, part)));
            }
            self.read(&mut packets, &mut routes, Some((&cut, part)));
        }
    }

    /// Reads to the end of the source, or until all that belongs to the part was read.
    fn read(&self, packets: &mut PacketSource, routes: &mut BTreeMap<usize, Route>, part: Option<(&Cut, usize)>) {
        let mut unfinished: BTreeSet<usize> = routes.keys().copied().collect();
        while self.shared.goes_on() && !routes.is_empty() && !unfinished.is_empty() {
            let packet = match packets.read() {
                Ok(Some(packet)) => packet,
                Ok(None) => return,
                Err(error) => return self.give_up(packets, error),
            };
            // The clock of decoding never runs behind that of showing.
            if let Some((cut, part)) = part
                && let Some(time) = packet.dts().or(packet.pts())
            {
                let time = Rational::whole(time) * packets.clock(packet.stream());
                if cut.is_behind(part, time) {
                    unfinished.remove(&packet.stream());
                }
                if cut.is_behind(part, time - MOST_APART) {
                    return;
                }
            }
            self.pass_on(packet, routes, part);
        }
    }

    fn give_up(&self, packets: &PacketSource, error: OpenError) {
        match error {
            OpenError::System(error) => {
                let what = format!("{} could not be read to its end", packets.name());
                self.shared.fail_source(Problem::from_io(what, &error));
            }
            // Damage: the source ends here, and the check will say how much is missing.
            OpenError::Library(_) => self.times.note_fault(),
            error => self.shared.fail_source(problem_of(packets.name(), &error)),
        }
    }

    fn pass_on(&self, packet: Packet, routes: &mut BTreeMap<usize, Route>, part: Option<(&Cut, usize)>) {
        let stream = packet.stream();
        if let Some(route) = routes.get_mut(&stream)
            && !self.hand_out(stream, packet, route, part)
        {
            routes.remove(&stream);
        }
    }

    /// Answers whether anybody still wants packets of this stream.
    fn hand_out(&self, stream: usize, packet: Packet, route: &mut Route, part: Option<(&Cut, usize)>) -> bool {
        let (decoder, copies) = match route {
            Route::Decode(decoder) => (Some(decoder), None),
            Route::Copies(copies) => (None, Some(copies)),
            Route::Both(decoder, copies) => (Some(decoder), Some(copies)),
        };
        let mut wanted = false;
        if let Some(copies) = copies {
            copies.retain(|copy| {
                let time = packet.pts().map(|time| Rational::whole(time) * copy.clock);
                let shift = part.map_or(copy.shift, |(cut, part)| cut.shift(part));
                if part.is_some_and(|(cut, part)| time.is_none_or(|time| !cut.holds(part, time))) {
                    return true;
                }
                if let Some(time) = time.filter(|_| !packet.is_hidden()) {
                    self.times.note_first(stream, if part.is_some() { time + shift } else { time });
                }
                let mut packet = packet.clone();
                packet.set_stream(copy.slot);
                copy.writer.send(ToWriter::Packet { slot: copy.slot, packet, shift }).is_ok()
            });
            wanted |= !copies.is_empty();
        }
        if let Some(decoder) = decoder {
            wanted |= decoder.send(ToDecoder::Packet(packet)).is_ok();
        }
        wanted
    }
}

/// Decodes one stream and hands the frames to everybody who wants them.
pub(super) struct DecodeTask<'a> {
    pub(super) stream: usize,
    pub(super) clock: Rational,
    /// The mean frame rate, for frames without a time or a duration.
    pub(super) rate: Option<Rational>,
    pub(super) is_picture: bool,
    pub(super) name: String,
    pub(super) shared: Shared<'a>,
    pub(super) times: Arc<SourceTimes>,
    pub(super) cut: Option<Arc<Cut>>,
    /// The threads of the decoder, and the runs for which it works.
    pub(super) threads: Vec<u32>,
    pub(super) works: Vec<&'a Work<'a>>,
}

/// So many packets in a row may fail before a stream counts as undecodable.
const MOST_FAULTS_IN_A_ROW: u32 = 300;

impl DecodeTask<'_> {
    pub(super) fn run(self, mut decoder: Decoder, packets: &Receiver<ToDecoder>, mut consumers: Vec<Sender<TimedFrame>>) {
        self.work_off(&mut decoder, packets, &mut consumers);
        // While the decoder's threads are still there, and before anybody learns of the end.
        cost::charge(self.works.iter().copied(), &self.threads);
    }

    fn work_off(&self, decoder: &mut Decoder, packets: &Receiver<ToDecoder>, consumers: &mut Vec<Sender<TimedFrame>>) {
        let cutter = self.cut.as_ref().map(|cut| Cutter::new(cut, self.clock, self.is_picture.then(|| self.usual_length())));
        let mut timeline = Timeline { task: self, cutter, first: None, next: None };
        let mut faults_in_a_row = 0;
        let mut begun = false;
        loop {
            let packet = match packets.recv() {
                Ok(ToDecoder::Packet(packet)) => Some(packet),
                Ok(ToDecoder::Part(part)) => {
                    // What is left in the decoder belongs to the part before.
                    if begun && !self.decode(decoder, None, &mut timeline, &mut faults_in_a_row, consumers) {
                        return;
                    }
                    decoder.flush();
                    begun = true;
                    if !timeline.begin(part, consumers) {
                        return;
                    }
                    continue;
                }
                Err(_) => None,
            };
            if !self.shared.goes_on() || consumers.is_empty() {
                return;
            }
            if !self.decode(decoder, packet.as_ref(), &mut timeline, &mut faults_in_a_row, consumers) {
                return;
            }
            if faults_in_a_row > MOST_FAULTS_IN_A_ROW {
                let what = format!("{} could not be decoded", self.name);
                let why = format!("{MOST_FAULTS_IN_A_ROW} packets in a row are damaged");
                return self.shared.fail_source(Problem::new(ProblemKind::NotMedia, what, why));
            }
            if packet.is_none() {
                timeline.end(consumers);
                return;
            }
        }
    }

    /// Gives the decoder a packet, or the end, and hands out what comes; answers whether anybody wants more.
    fn decode(
        &self,
        decoder: &mut Decoder,
        packet: Option<&Packet>,
        timeline: &mut Timeline<'_>,
        faults_in_a_row: &mut u32,
        consumers: &mut Vec<Sender<TimedFrame>>,
    ) -> bool {
        loop {
            let taken = decoder.send(packet);
            let mut got_frames = false;
            loop {
                match decoder.receive() {
                    Ok(Some(frame)) => {
                        got_frames = true;
                        *faults_in_a_row = 0;
                        if !timeline.take(frame, consumers) {
                            return false;
                        }
                    }
                    Ok(None) => break,
                    Err(_) => {
                        self.times.note_fault();
                        *faults_in_a_row += 1;
                        break;
                    }
                }
            }
            match taken {
                Ok(true) => return true,
                Ok(false) if got_frames => {}
                Ok(false) => return true,
                Err(_) if packet.is_none() => return true,
                Err(_) => {
                    self.times.note_fault();
                    *faults_in_a_row += 1;
                    return true;
                }
            }
        }
    }

    /// Ticks that a frame of picture lasts at the mean rate.
    fn usual_length(&self) -> i64 {
        let length = self.rate.and_then(Rational::inverse).and_then(|length| length.divided_by(self.clock));
        length.map_or(1, Rational::round).max(1)
    }
}

/// Gives every frame a time that begins at nought with the first one and always grows.
struct Timeline<'a> {
    task: &'a DecodeTask<'a>,
    cutter: Option<Cutter<'a>>,
    first: Option<i64>,
    next: Option<i64>,
}

impl Timeline<'_> {
    fn begin(&mut self, part: usize, consumers: &mut Vec<Sender<TimedFrame>>) -> bool {
        let left = self.cutter.as_mut().and_then(|cutter| cutter.begin(part));
        left.is_none_or(|placed| self.hand_out(placed, consumers))
    }

    fn end(&mut self, consumers: &mut Vec<Sender<TimedFrame>>) {
        if let Some(placed) = self.cutter.as_mut().and_then(Cutter::end) {
            self.hand_out(placed, consumers);
        }
    }

    /// Takes a frame as it was decoded.
    fn take(&mut self, frame: Frame, consumers: &mut Vec<Sender<TimedFrame>>) -> bool {
        let task = self.task;
        let Some(cutter) = &mut self.cutter else {
            let usual = if task.is_picture {
                task.usual_length()
            } else {
                let length = Rational::new(frame.samples().into(), i64::from(frame.sample_rate()).max(1));
                length.and_then(|length| length.divided_by(task.clock)).map_or(1, Rational::round)
            };
            let time = frame.best_time().or(self.next).unwrap_or(0);
            let length = if frame.duration() > 0 { frame.duration() } else { usual };
            return self.hand_out(Placed { frame, time, length }, consumers);
        };
        match cutter.take(frame) {
            Ok(placed) => placed.is_none_or(|placed| self.hand_out(placed, consumers)),
            Err(_) => {
                task.times.note_fault();
                true
            }
        }
    }

    fn hand_out(&mut self, Placed { mut frame, time, length }: Placed, consumers: &mut Vec<Sender<TimedFrame>>) -> bool {
        let task = self.task;
        let first = *self.first.get_or_insert(time);
        if self.next.is_none() {
            let start = Rational::whole(first) * task.clock;
            task.times.note_first(task.stream, start);
            if task.is_picture {
                task.times.picture_start.get_or_init(|| start);
            }
        }
        let usual = if task.is_picture { task.usual_length() } else { length };
        // Time never runs backward, whatever a damaged file says.
        let time = match self.next {
            Some(next) if task.is_picture && time <= next - usual => next - usual + 1,
            _ => time,
        };
        self.next = Some(time + usual);
        if task.is_picture {
            task.times.note_end(Rational::whole(time - first + length) * task.clock);
        }
        frame.set_times(time - first, length);
        consumers.retain(|consumer| consumer.send(TimedFrame { frame: frame.clone(), clock: task.clock }).is_ok());
        !consumers.is_empty()
    }
}
