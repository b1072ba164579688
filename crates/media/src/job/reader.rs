//! Reading packets and decoding them.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use beryl_core::problem::{Problem, ProblemKind};
use beryl_core::time::Rational;
use beryl_core::timeline::{PictureTrack, PlacedPicture, Remark, SoundPiece, SoundTrack, Takes};
use crossbeam_channel::Sender;

use super::queue::{Inlet, Outlet, Weighed};
use super::uniform::Uniform;
use super::wires::{Shared, TimedFrame};
use super::work::{SourceNotes, Work};
use super::writer::Destination;
use super::{cost, cut};
use crate::raw::{AvError, Decoder, Frame, OpenError, Packet};
use crate::source::{PacketSource, problem_of};

/// What comes to a decoder.
pub(super) enum ToDecoder {
    Packet(Packet),
    /// What follows belongs to this part of the source.
    Part(usize),
}

impl Weighed for ToDecoder {
    fn bytes(&self) -> u64 {
        match self {
            Self::Packet(packet) => packet.size(),
            Self::Part(_) => 0,
        }
    }
}

/// Where the packets of a stream go.
pub(super) enum Route {
    Decode(Inlet<ToDecoder>),
    Copies(Vec<Copy>),
    Both(Inlet<ToDecoder>, Vec<Copy>),
}

impl Route {
    const fn decoder(&self) -> Option<&Inlet<ToDecoder>> {
        match self {
            Self::Decode(decoder) | Self::Both(decoder, _) => Some(decoder),
            Self::Copies(_) => None,
        }
    }
}

/// A stream that goes untouched into an output.
pub(super) struct Copy {
    pub(super) destination: Destination,
    pub(super) clock: Rational,
}

impl Drop for Copy {
    fn drop(&mut self) {
        self.destination.end();
    }
}

/// Reads the source, or parts of it, and hands the packets out.
pub(super) struct ReadTask<'a> {
    pub(super) shared: Shared<'a>,
    pub(super) notes: Arc<SourceNotes>,
    pub(super) takes: Takes,
    /// The stream whose key frames parts are looked for by.
    pub(super) picture: Option<usize>,
}

/// So many times in a row reading may fail before the source ends there.
const MOST_DAMAGE: u32 = 20;
/// Streams whose packets come this many seconds behind those of another are not waited for.
const MOST_APART: Rational = Rational::whole(10);

impl ReadTask<'_> {
    pub(super) fn run(self, mut packets: PacketSource, mut routes: BTreeMap<usize, Route>) {
        packets.keep_only(&routes.keys().copied().collect::<Vec<_>>());
        for part in 0..self.takes.count() {
            for decoder in routes.values().filter_map(Route::decoder) {
                // One that has gone is found out with its next packet.
                drop(decoder.send(ToDecoder::Part(part)));
            }
            let read =
                if self.takes.is_whole() { Ok(Vec::new()) } else { cut::go_to(&mut packets, &self.takes, part, self.picture) };
            let read = match read {
                Ok(read) => read,
                Err(error) => return self.give_up(&packets, error),
            };
            for packet in read {
                self.pass_on(packet, &mut routes, part);
            }
            self.read(&mut packets, &mut routes, part);
        }
        for jump in packets.jumps() {
            self.notes.remark(Remark::ClockJump { at: jump.at - self.takes.part(0).from, by: jump.by });
        }
        self.notes.note_anchors(packets.anchors());
    }

    /// Reads to the end of the source, or until all that belongs to the part was read.
    fn read(&self, packets: &mut PacketSource, routes: &mut BTreeMap<usize, Route>, part: usize) {
        let mut unfinished: BTreeSet<usize> = routes.keys().copied().collect();
        let mut damage = 0;
        while self.shared.goes_on() && !routes.is_empty() && !unfinished.is_empty() {
            let packet = match packets.read() {
                Ok(Some(packet)) => packet,
                Ok(None) => return,
                // Behind a damaged place there may be more.
                Err(OpenError::Library(_)) if damage < MOST_DAMAGE => {
                    damage += 1;
                    self.notes.note_fault(None);
                    continue;
                }
                Err(error) => return self.give_up(packets, error),
            };
            damage = 0;
            // The clock of decoding never runs behind that of showing.
            if let Some(time) = packet.dts().or(packet.pts()) {
                let time = Rational::whole(time) * packets.clock(packet.stream());
                if self.takes.is_behind(part, time) {
                    unfinished.remove(&packet.stream());
                }
                if self.takes.is_behind(part, time - MOST_APART) {
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
            OpenError::Library(_) => self.notes.note_fault(None),
            error => self.shared.fail_source(problem_of(packets.name(), &error)),
        }
    }

    fn pass_on(&self, packet: Packet, routes: &mut BTreeMap<usize, Route>, part: usize) {
        let stream = packet.stream();
        if let Some(route) = routes.get_mut(&stream)
            && !self.hand_out(packet, route, part)
        {
            routes.remove(&stream);
        }
    }

    /// Answers whether anybody still wants packets of this stream.
    fn hand_out(&self, packet: Packet, route: &mut Route, part: usize) -> bool {
        let (decoder, copies) = match route {
            Route::Decode(decoder) => (Some(decoder), None),
            Route::Copies(copies) => (None, Some(copies)),
            Route::Both(decoder, copies) => (Some(decoder), Some(copies)),
        };
        let mut wanted = false;
        if let Some(copies) = copies {
            copies.retain(|copy| {
                let time = packet.pts().map(|time| Rational::whole(time) * copy.clock);
                if time.is_none_or(|time| !self.takes.holds(part, time)) {
                    return true;
                }
                let shift = self.takes.shift(part);
                copy.destination.send(packet.clone(), shift)
            });
            wanted |= !copies.is_empty();
        }
        if let Some(decoder) = decoder {
            wanted |= decoder.send(ToDecoder::Packet(packet)).is_ok();
        }
        wanted
    }
}

/// Decodes one stream and hands the frames to everybody who wants them, each at its place.
pub(super) struct DecodeTask<'a> {
    pub(super) stream: usize,
    pub(super) clock: Rational,
    /// The mean frame rate, for frames without a time or a duration.
    pub(super) rate: Option<Rational>,
    pub(super) is_picture: bool,
    pub(super) name: String,
    pub(super) shared: Shared<'a>,
    pub(super) notes: Arc<SourceNotes>,
    pub(super) takes: Takes,
    /// How many frames are decoded before the first is shown.
    pub(super) delay: usize,
    /// The threads of the decoder, and the runs for which it works.
    pub(super) threads: Vec<u32>,
    pub(super) works: Vec<&'a Work<'a>>,
}

/// So many packets in a row may fail before a stream counts as undecodable.
const MOST_FAULTS_IN_A_ROW: u32 = 300;

impl DecodeTask<'_> {
    pub(super) fn run(self, mut decoder: Decoder, packets: &Outlet<ToDecoder>, mut consumers: Vec<Sender<TimedFrame>>) {
        self.work_off(&mut decoder, packets, &mut consumers);
        // While the decoder's threads are still there, and before anybody learns of the end.
        cost::charge(self.works.iter().copied(), &self.threads);
    }

    fn work_off(&self, decoder: &mut Decoder, packets: &Outlet<ToDecoder>, consumers: &mut Vec<Sender<TimedFrame>>) {
        let mut lane = Lane::new(self);
        let mut faults_in_a_row = 0;
        let mut begun = false;
        let mut stamped = Stamped::default();
        loop {
            let packet = match packets.next() {
                Some(ToDecoder::Packet(packet)) => Some(packet),
                Some(ToDecoder::Part(part)) => {
                    // What is left in the decoder belongs to the part before.
                    if begun && !self.decode(decoder, None, &mut lane, &mut faults_in_a_row, consumers) {
                        return;
                    }
                    decoder.flush();
                    begun = true;
                    if !self.answer(lane.begin(part), consumers) {
                        return;
                    }
                    continue;
                }
                None => None,
            };
            if !self.shared.goes_on() || consumers.is_empty() {
                return;
            }
            if self.is_picture && stamped.in_order_of_decoding(packet.as_ref(), self.delay) {
                lane.reorder(self.delay);
            }
            if !self.decode(decoder, packet.as_ref(), &mut lane, &mut faults_in_a_row, consumers) {
                return;
            }
            if faults_in_a_row > MOST_FAULTS_IN_A_ROW {
                let what = format!("{} could not be decoded", self.name);
                let why = format!("{MOST_FAULTS_IN_A_ROW} packets in a row are damaged");
                return self.shared.fail_source(Problem::new(ProblemKind::NotMedia, what, why));
            }
            if packet.is_none() {
                self.answer(lane.end(), consumers);
                return;
            }
        }
    }

    /// Gives the decoder a packet, or the end, and hands out what comes; answers whether anybody wants more.
    fn decode(
        &self,
        decoder: &mut Decoder,
        packet: Option<&Packet>,
        lane: &mut Lane<'_>,
        faults_in_a_row: &mut u32,
        consumers: &mut Vec<Sender<TimedFrame>>,
    ) -> bool {
        let fault = |error: &AvError, faults_in_a_row: &mut u32| {
            if error.is_out_of_memory() {
                // It says nothing of the file.
                self.shared.fail_source(error.problem(format!("{} could not be decoded", self.name), ""));
                return;
            }
            let time = packet.and_then(|packet| packet.pts().or(packet.dts())).map(|time| Rational::whole(time) * self.clock);
            self.notes.note_fault(time.map(|time| time - self.takes.part(0).from));
            *faults_in_a_row += 1;
        };
        loop {
            let taken = decoder.send(packet);
            let mut got_frames = false;
            loop {
                match decoder.receive() {
                    Ok(Some(frame)) => {
                        got_frames = true;
                        *faults_in_a_row = 0;
                        if !self.answer(lane.take(frame), consumers) {
                            return false;
                        }
                    }
                    Ok(None) => break,
                    Err(error) => {
                        fault(&error, faults_in_a_row);
                        break;
                    }
                }
            }
            match taken {
                Ok(true) => return true,
                Ok(false) if got_frames => {}
                Ok(false) => return true,
                Err(_) if packet.is_none() => return true,
                Err(error) => {
                    fault(&error, faults_in_a_row);
                    return true;
                }
            }
        }
    }

    /// Hands out what a lane has made ready; answers whether anybody wants more.
    fn answer(&self, ready: Result<Vec<TimedFrame>, AvError>, consumers: &mut Vec<Sender<TimedFrame>>) -> bool {
        match ready {
            Ok(frames) => frames.into_iter().all(|TimedFrame { frame, clock }| {
                consumers.retain(|consumer| consumer.send(TimedFrame { frame: frame.clone(), clock }).is_ok());
                !consumers.is_empty()
            }),
            Err(error) => {
                let what = format!("{} could not be decoded", self.name);
                let why = "a frame could not be brought to its place";
                self.shared.fail_source(error.problem(what, why));
                false
            }
        }
    }

    /// Ticks that a frame of picture lasts at the mean rate.
    fn usual_length(&self) -> i64 {
        let length = self.rate.and_then(Rational::inverse).and_then(|length| length.divided_by(self.clock));
        length.map_or(1, Rational::round).max(1)
    }
}

/// Whether a file stamps frames in the order of decoding although they are shown in another: its stamps
/// of both orders are the same from the beginning on.
#[derive(Default)]
struct Stamped {
    packets: usize,
    apart: bool,
}

impl Stamped {
    /// Answers once the first frame may come out of the decoder.
    fn in_order_of_decoding(&mut self, packet: Option<&Packet>, delay: usize) -> bool {
        let Some(packet) = packet else { return false };
        self.packets += 1;
        self.apart |= packet.pts().zip(packet.dts()).is_none_or(|(shown, decoded)| shown != decoded);
        delay > 0 && self.packets == delay + 1 && !self.apart
    }
}

/// The way of decoded frames to their places.
struct Lane<'a> {
    task: &'a DecodeTask<'a>,
    track: Track,
    form: Uniform,
    /// Where the sound that was handed out ends, in samples, and whether it has begun to drift.
    sounded: i64,
    drifts: bool,
}

enum Track {
    Picture(PictureTrack<Frame>),
    /// Opened with the first frame, which tells its rate.
    Sound(Option<SoundTrack<Frame>>, usize),
}

impl<'a> Lane<'a> {
    fn new(task: &'a DecodeTask<'a>) -> Self {
        let track = if task.is_picture {
            Track::Picture(PictureTrack::new(task.takes.clone(), task.clock, task.usual_length(), 0))
        } else {
            Track::Sound(None, 0)
        };
        // Those that share a decoder have the same source.
        let size = task.works.iter().find_map(|work| work.run.plan.picture.as_ref()?.source_size);
        Self { task, track, form: Uniform::expected(size), sounded: 0, drifts: false }
    }

    fn reorder(&mut self, depth: usize) {
        if let Track::Picture(track) = &mut self.track {
            track.reorder(depth);
        }
    }

    fn begin(&mut self, part: usize) -> Result<Vec<TimedFrame>, AvError> {
        match &mut self.track {
            Track::Picture(track) => {
                let left = track.begin(part);
                Ok(self.pictures(left))
            }
            Track::Sound(track, began) => {
                *began = part;
                let left = track.as_mut().map(|track| track.begin(part)).unwrap_or_default();
                self.sounds(left)
            }
        }
    }

    fn end(&mut self) -> Result<Vec<TimedFrame>, AvError> {
        match &mut self.track {
            Track::Picture(track) => {
                let left = track.end();
                Ok(self.pictures(left))
            }
            Track::Sound(track, _) => {
                let left = track.as_mut().map(SoundTrack::end).unwrap_or_default();
                for gap in track.iter().flat_map(SoundTrack::gaps) {
                    let at = gap.at - self.task.takes.part(0).from;
                    let stream = u32::try_from(self.task.stream).unwrap_or(u32::MAX);
                    self.task.notes.remark(Remark::SoundGap { stream, at, length: gap.length });
                }
                self.sounds(left)
            }
        }
    }

    /// Takes a frame as it was decoded.
    fn take(&mut self, frame: Frame) -> Result<Vec<TimedFrame>, AvError> {
        let task = self.task;
        match &mut self.track {
            Track::Picture(track) => {
                let (stamp, duration) = (frame.best_time(), frame.duration());
                let at = stamp.map(|stamp| Rational::whole(stamp) * task.clock - task.takes.part(0).from);
                if let Some(stamp) = stamp {
                    task.notes.sketch(&frame, Rational::whole(stamp) * task.clock)?;
                }
                let (frame, changed) = self.form.fit(frame)?;
                if let Some((from, to)) = changed {
                    task.notes.remark(Remark::FormChange { at: at.unwrap_or(Rational::ZERO), from, to });
                }
                let placed = track.take(frame, stamp, duration);
                Ok(self.pictures(placed))
            }
            Track::Sound(track, part) => {
                let (samples, rate) = (i64::from(frame.samples()), frame.sample_rate().max(1));
                let stamp = frame.best_time().map(|time| Rational::whole(time) * task.clock);
                let mut pieces = Vec::new();
                let track = match track {
                    Some(track) => {
                        if track.rate() != rate {
                            pieces.extend(track.set_rate(rate));
                        }
                        track
                    }
                    None => {
                        let opened = track.insert(SoundTrack::new(task.takes.clone(), task.clock, rate));
                        opened.begin(*part);
                        opened
                    }
                };
                pieces.extend(track.take(frame, stamp, samples));
                self.sounds(pieces)
            }
        }
    }

    fn pictures(&self, placed: Vec<PlacedPicture<Frame>>) -> Vec<TimedFrame> {
        let clock = self.task.clock;
        let timed = placed.into_iter().map(|PlacedPicture { mut frame, time, length, leads }| {
            frame.set_times(time, length);
            if leads {
                frame.mark_leading();
            }
            self.task.notes.note_end(Rational::whole(time.saturating_add(length)) * clock);
            TimedFrame { frame, clock }
        });
        timed.collect()
    }

    /// Silence has the form of the sound that it stands before.
    fn sounds(&mut self, pieces: Vec<SoundPiece<Frame>>) -> Result<Vec<TimedFrame>, AvError> {
        let mut timed = Vec::new();
        let mut silences = Vec::new();
        for piece in pieces {
            match piece {
                SoundPiece::Silence { at, samples } => silences.push((at, samples)),
                SoundPiece::Sound { frame, first, samples, at, stretch } => {
                    let clock = Rational::new(1, i64::from(frame.sample_rate()).max(1)).unwrap_or(Rational::ONE);
                    for (from, length) in silences.drain(..) {
                        silence(&frame, from, length, clock, &mut timed)?;
                        self.sounded = from + length;
                    }
                    let mut piece =
                        if (first, samples) == (0, i64::from(frame.samples())) { frame } else { frame.piece(first, samples)? };
                    let ahead = stretch * RESAMPLER_LAG * i64::from(piece.sample_rate()) / 1_000_000;
                    // What begins to drift goes on from where it is; from then on places are followed.
                    let place = if self.drifts { at + ahead } else { self.sounded.max(0) };
                    self.drifts |= stretch != 0;
                    if self.drifts {
                        piece.mark_drifting();
                    }
                    piece.set_times(if self.drifts { place } else { at }, samples);
                    self.sounded = at + samples;
                    timed.push(TimedFrame { frame: piece, clock });
                }
            }
        }
        Ok(timed)
    }
}

/// Seconds by which a resampler that follows the times of its frames lags behind a deviation that grows: it is told of
/// it so much earlier. Measured; the tests of habits hold what comes of it to a millisecond.
const RESAMPLER_LAG: i64 = 1;

/// Silence of the form of `like`, in frames of a second at most.
fn silence(like: &Frame, from: i64, length: i64, clock: Rational, timed: &mut Vec<TimedFrame>) -> Result<(), AvError> {
    let most = i64::from(like.sample_rate()).max(1);
    let mut at = from;
    while at < from + length {
        let samples = most.min(from + length - at);
        let mut frame = like.silence(samples)?;
        frame.set_times(at, samples);
        timed.push(TimedFrame { frame, clock });
        at += samples;
    }
    Ok(())
}
