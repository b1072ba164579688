//! Reading packets and decoding them.

use std::collections::BTreeMap;
use std::sync::Arc;

use beryl_core::problem::{Problem, ProblemKind};
use beryl_core::rational::Rational;
use crossbeam_channel::{Receiver, Sender};

use super::pass::{Shared, TimedFrame, ToWriter};
use super::work::SourceTimes;
use crate::raw::{Decoder, Frame, OpenError, Packet};
use crate::source::{PacketSource, problem_of};

/// Where the packets of a stream go.
pub(super) enum Route {
    Decode(Sender<Packet>),
    Copies(Vec<Copy>),
    Both(Sender<Packet>, Vec<Copy>),
}

/// A stream that goes untouched into an output.
pub(super) struct Copy {
    pub(super) slot: usize,
    pub(super) writer: Sender<ToWriter>,
    pub(super) shift: Rational,
    pub(super) clock: Rational,
}

/// Reads the source to its end and hands the packets out.
pub(super) struct ReadTask<'a> {
    pub(super) shared: Shared<'a>,
    pub(super) times: Arc<SourceTimes>,
}

impl ReadTask<'_> {
    pub(super) fn run(self, mut packets: PacketSource, mut routes: BTreeMap<usize, Route>) {
        packets.keep_only(&routes.keys().copied().collect::<Vec<_>>());
        while self.shared.goes_on() && !routes.is_empty() {
            let packet = match packets.read() {
                Ok(Some(packet)) => packet,
                Ok(None) => return,
                Err(OpenError::System(error)) => {
                    let what = format!("{} could not be read to its end", packets.name());
                    return self.shared.fail_source(Problem::from_io(what, &error));
                }
                // Damage: the source ends here, and the check will say how much is missing.
                Err(OpenError::Library(_)) => return self.times.note_fault(),
                Err(error) => return self.shared.fail_source(problem_of(packets.name(), &error)),
            };
            let stream = packet.stream();
            let Some(route) = routes.get_mut(&stream) else { continue };
            if !self.hand_out(stream, packet, route) {
                routes.remove(&stream);
            }
        }
    }

    /// Answers whether anybody still wants packets of this stream.
    fn hand_out(&self, stream: usize, packet: Packet, route: &mut Route) -> bool {
        let (decoder, copies) = match route {
            Route::Decode(decoder) => (Some(decoder), None),
            Route::Copies(copies) => (None, Some(copies)),
            Route::Both(decoder, copies) => (Some(decoder), Some(copies)),
        };
        let mut wanted = false;
        if let Some(copies) = copies {
            copies.retain(|copy| {
                if let Some(time) = packet.pts().filter(|_| !packet.is_hidden()) {
                    self.times.note_first(stream, Rational::whole(time) * copy.clock);
                }
                let mut packet = packet.clone();
                packet.set_stream(copy.slot);
                copy.writer.send(ToWriter::Packet { slot: copy.slot, packet, shift: copy.shift }).is_ok()
            });
            wanted |= !copies.is_empty();
        }
        if let Some(decoder) = decoder {
            wanted |= decoder.send(packet).is_ok();
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
}

/// So many packets in a row may fail before a stream counts as undecodable.
const MOST_FAULTS_IN_A_ROW: u32 = 300;

impl DecodeTask<'_> {
    pub(super) fn run(self, mut decoder: Decoder, packets: &Receiver<Packet>, mut consumers: Vec<Sender<TimedFrame>>) {
        let mut timeline = Timeline { task: &self, first: None, next: None };
        let mut faults_in_a_row = 0;
        loop {
            let packet = packets.recv().ok();
            let at_end = packet.is_none();
            if !self.shared.goes_on() || consumers.is_empty() {
                return;
            }
            loop {
                let taken = decoder.send(packet.as_ref());
                let mut got_frames = false;
                loop {
                    match decoder.receive() {
                        Ok(Some(frame)) => {
                            got_frames = true;
                            faults_in_a_row = 0;
                            if !timeline.hand_out(frame, &mut consumers) {
                                return;
                            }
                        }
                        Ok(None) => break,
                        Err(_) => {
                            self.times.note_fault();
                            faults_in_a_row += 1;
                            break;
                        }
                    }
                }
                match taken {
                    Ok(true) => break,
                    Ok(false) if got_frames => {}
                    Ok(false) => break,
                    Err(_) if at_end => break,
                    Err(_) => {
                        self.times.note_fault();
                        faults_in_a_row += 1;
                        break;
                    }
                }
            }
            if faults_in_a_row > MOST_FAULTS_IN_A_ROW {
                let what = format!("{} could not be decoded", self.name);
                let why = format!("{MOST_FAULTS_IN_A_ROW} packets in a row are damaged");
                return self.shared.fail_source(Problem::new(ProblemKind::NotMedia, what, why));
            }
            if at_end {
                return;
            }
        }
    }
}

/// Gives every frame a time that begins at nought with the first one and always grows.
struct Timeline<'a> {
    task: &'a DecodeTask<'a>,
    first: Option<i64>,
    next: Option<i64>,
}

impl Timeline<'_> {
    fn hand_out(&mut self, mut frame: Frame, consumers: &mut Vec<Sender<TimedFrame>>) -> bool {
        let task = self.task;
        let usual = if task.is_picture {
            task.rate
                .and_then(Rational::inverse)
                .and_then(|length| length.divided_by(task.clock))
                .map_or(1, Rational::round)
                .max(1)
        } else {
            let length = Rational::new(frame.samples().into(), i64::from(frame.sample_rate()).max(1));
            length.and_then(|length| length.divided_by(task.clock)).map_or(1, Rational::round)
        };
        let time = frame.best_time().or(self.next).unwrap_or(0);
        let first = *self.first.get_or_insert(time);
        if self.next.is_none() {
            let start = Rational::whole(first) * task.clock;
            task.times.note_first(task.stream, start);
            if task.is_picture {
                task.times.picture_start.get_or_init(|| start);
            }
        }
        // Time never runs backward, whatever a damaged file says.
        let time = match self.next {
            Some(next) if task.is_picture && time <= next - usual => next - usual + 1,
            _ => time,
        };
        let length = if task.is_picture && frame.duration() <= 0 { usual } else { frame.duration().max(1) };
        self.next = Some(time + if task.is_picture { usual } else { length });
        if task.is_picture {
            task.times.note_end(Rational::whole(time - first + length) * task.clock);
        }
        frame.set_times(time - first, length);
        consumers.retain(|consumer| consumer.send(TimedFrame { frame: frame.clone(), clock: task.clock }).is_ok());
        !consumers.is_empty()
    }
}
