//! Sound encoders.

use std::borrow::Cow;
use std::collections::VecDeque;

use beryl_core::formats::Container;
use beryl_core::plan::Track;
use beryl_core::preset::Pitch;
use beryl_core::sound::downmix::Mix;
use beryl_core::sound::layout::{is_placed, of_count, usual};
use beryl_core::sound::track::Matrix;
use beryl_core::time::{Rational, TimeMap};
use crossbeam_channel::Receiver;

use super::cost;
use super::wires::{Shared, TimedFrame, library_problem};

use super::stretch;
use super::work::Work;
use super::writer::Destination;
use crate::raw::{AvError, Encoder, EncoderSettings, Frame, Graph, GraphInput, Packet, within};

/// Encodes one sound stream of one run.
pub(super) struct EncodeTask<'a> {
    pub(super) work: &'a Work<'a>,
    pub(super) shared: Shared<'a>,
    /// Its place among the streams of the whole.
    pub(super) slot: usize,
    pub(super) plan: &'a Track,
    pub(super) settings: EncoderSettings,
    pub(super) destination: Destination,
    /// The format of the file.
    pub(super) container: Container,
}

impl EncodeTask<'_> {
    pub(super) fn run(self, frames: &Receiver<TimedFrame>) {
        if let Err(error) = self.encode(frames) {
            self.work.fail(library_problem(&self.work.what(), &error));
        }
        cost::charge([self.work], &[]);
    }

    fn encode(&self, frames: &Receiver<TimedFrame>) -> Result<(), AvError> {
        // Opened before the first frame comes: a writer waits for all its streams.
        let encoder = Encoder::open(&self.settings)?;
        self.destination.open(encoder.stream()?);
        let mut outlet = Outlet { task: self, portions: None, encoder, samples: 0, held: VecDeque::new() };
        let mut graph: Option<(Graph, (GraphInput, bool))> = None;
        let mut last: Option<Frame> = None;
        let mut end = Rational::ZERO;
        while let Ok(TimedFrame { frame, clock }) = frames.recv() {
            if !self.shared.goes_on() || !self.work.is_wanted(self.shared.control) {
                return Ok(());
            }
            let input = GraphInput::of_sound(&frame, clock);
            let input = (input, frame.is_drifting());
            if graph.as_ref().is_none_or(|(_, present)| *present != input) {
                // A source whose sound changes its form in mid-stream, or begins to drift, goes on in the form of the output.
                if let Some((mut old, _)) = graph.take()
                    && !outlet.end_of(&mut old, last.as_ref(), end)?
                {
                    return Ok(());
                }
                graph = Some((self.graph(&input.0, input.1, &outlet.encoder)?, input));
            }
            let Some((present, _)) = &mut graph else { continue };
            end = Rational::whole(frame.pts().unwrap_or(0).saturating_add(frame.samples().into())) * clock;
            last = (!self.keeps_speed()).then(|| frame.clone());
            present.push(Some(frame))?;
            if !outlet.take_from(present)? {
                return Ok(());
            }
        }
        if let Some((mut graph, _)) = graph
            && !outlet.end_of(&mut graph, last.as_ref(), end)?
        {
            return Ok(());
        }
        outlet.finish(end)
    }

    /// Mixed, resampled and, where its clock drifts, stretched or drawn together until it keeps time: the places of
    /// frames tell by how much. All of that is done in fractions of 64 bits; what keeps its channels and its rate and
    /// does not drift comes through sample for sample.
    fn graph(&self, input: &GraphInput, drifts: bool, encoder: &Encoder) -> Result<Graph, AvError> {
        let Track { sample_rate, layout, .. } = self.plan;
        let GraphInput::Sound { sample_rate: own_rate, layout: own_layout, channels, format, .. } = input else {
            return Err(AvError::own("filter sound", "what comes in is no sound"));
        };
        let mut filters = Vec::new();
        // What comes of several streams is joined before.
        let picked = match self.plan.from.as_slice() {
            [one] if !one.channels.is_empty() => Some(one.channels.as_slice()),
            _ => None,
        };
        let (own_layout, channels) = match picked {
            Some(picked) => {
                filters.push(picking(picked, *channels));
                let count = u32::try_from(picked.len()).unwrap_or(0);
                (of_count(count), count)
            }
            None => (Cow::Borrowed(own_layout.as_str()), *channels),
        };
        let matrix = self.plan.matrix.as_ref().filter(|matrix| matrix.taken() == channels as usize);
        let mix = matrix.map(Matrix::mix).or_else(|| Mix::between(&own_layout, channels, layout, self.plan.downmix));
        if let Some(mix) = &mix {
            // The library mixes no channels whose speakers it finds odd, whatever is said of how: they get plain ones.
            let plain = usual(channels).filter(|_| !is_placed(&own_layout));
            let each = || (0..channels).map(|channel| channel.to_string()).collect::<Vec<_>>().join("|");
            filters.extend(plain.map(|plain| format!("channelmap=map={}:channel_layout={plain}", each())));
            filters.push(mixing(mix, &within(layout, self.plan.channels)));
        }
        filters.extend(to_rate(*own_rate, *sample_rate, drifts));
        filters.extend(self.change_of_speed()?);
        // Channels that add up, or are made louder, may pass full scale.
        if mix.as_ref().is_some_and(|mix| mix.most() > 1.0 + 1e-9) {
            filters.push(format!("aformat=sample_fmts=dbl,alimiter=limit={LIMIT}:attack=5:release=50:level=disabled:latency=1"));
        }
        let wanted = encoder.sample_format();
        let is_finer = !filters.is_empty() || !crate::raw::has_16_bits_at_most(*format);
        if is_finer && wanted.starts_with("s16") {
            filters.push(format!("aresample=osf={wanted}:dither_method=triangular"));
        }
        let layouts = if is_placed(layout) { format!(":channel_layouts={layout}") } else { String::new() };
        filters.push(format!("aformat=sample_fmts={wanted}:sample_rates={sample_rate}{layouts}"));
        Graph::new(input, &filters.join(","))
    }

    /// What plays sound at another speed, at the rate of the output.
    fn change_of_speed(&self) -> Result<Vec<String>, AvError> {
        let Track { sample_rate, speed, pitch, .. } = self.plan;
        if self.keeps_speed() {
            return Ok(Vec::new());
        }
        Ok(match pitch {
            Pitch::Keep => vec![stretch::filters(*speed, *sample_rate)?],
            Pitch::Follow => {
                // The rates whose relation is the speed, near that of the sound: all of it is exact.
                let (more, less) = (speed.numerator(), speed.denominator());
                let times = (i64::from(*sample_rate) / less).max(1);
                let (from, to) = (more * times, less * times);
                vec![
                    format!("asetrate={from}"),
                    resampling(u32::try_from(to).unwrap_or(*sample_rate)),
                    format!("asetrate={sample_rate}"),
                ]
            }
        })
    }

    fn keeps_speed(&self) -> bool {
        self.plan.speed == Rational::ONE
    }

    /// How many samples there are of sound that ends there in the source.
    fn samples_until(&self, end: Rational) -> i64 {
        let length = TimeMap::new(&[], self.plan.speed).length(end);
        (length * Rational::whole(self.plan.sample_rate.into())).round()
    }
}

/// Peaks that are left where channels are added up: one decibel below full scale.
const LIMIT: f64 = 0.891_251;

/// How finely the library's own filter is drawn, where the other one cannot follow a drift.
const FINE_TAPS: &str = "filter_size=64:phase_shift=12:cutoff=0.97:internal_sample_fmt=dblp";

/// What brings sound to a rate, and lets it keep time where its clock drifts.
pub(super) fn to_rate(own: u32, wanted: u32, drifts: bool) -> Option<String> {
    if drifts {
        // Without the flag the library would begin to resample only when it first has to, and forget the deviation.
        let follow = "async=2000:min_comp=0.00002:comp_duration=0.3:min_hard_comp=1000:flags=+res";
        return Some(format!("aresample={wanted}:{follow}:{FINE_TAPS}"));
    }
    (own != wanted).then(|| resampling(wanted))
}

/// What takes these of so many channels, in this order; one that is not there is silent.
pub(super) fn picking(wanted: &[u32], channels: u32) -> String {
    let count = u32::try_from(wanted.len()).unwrap_or(0);
    let row = |(place, channel): (usize, &u32)| {
        if *channel < channels { format!("c{place}=c{channel}") } else { format!("c{place}=0*c0") }
    };
    let rows: Vec<String> = wanted.iter().enumerate().map(row).collect();
    format!("pan={}|{}", within(&of_count(count), count), rows.join("|"))
}

/// Another rate, by the finer library, to 28 bits.
fn resampling(rate: u32) -> String {
    format!("aformat=sample_fmts=dblp,aresample={rate}:resampler=soxr:precision=28:internal_sample_fmt=dblp")
}

/// What mixes channels by their factors.
fn mixing(mix: &Mix, to: &str) -> String {
    let row = |(place, row): (usize, &Vec<f64>)| {
        let parts: Vec<String> = row.iter().enumerate().map(|(channel, part)| format!("{part:.12}*c{channel}")).collect();
        format!("c{place}={}", parts.join("+"))
    };
    let rows: Vec<String> = mix.rows.iter().enumerate().map(row).collect();
    format!("aformat=sample_fmts=dblp,pan={to}|{}", rows.join("|"))
}

/// From filtered sound to packets: in portions as long as the encoder wants them, counted sample by sample.
struct Outlet<'a> {
    task: &'a EncodeTask<'a>,
    portions: Option<Graph>,
    encoder: Encoder,
    samples: i64,
    /// The last of sound at another speed: its filter works window by window, and leaves an end that is some
    /// milliseconds too long or too short.
    held: VecDeque<Frame>,
}

/// Parts of a second that are held back of sound at another speed, more than a window of its filter is long.
const HELD_BACK: u32 = 8;

impl Outlet<'_> {
    fn clock(&self) -> Rational {
        Rational::new(1, i64::from(self.task.plan.sample_rate).max(1)).unwrap_or(Rational::ONE)
    }

    /// What is left in a graph that gets nothing more behind its last frame, which ends there in the source.
    fn end_of(&mut self, graph: &mut Graph, last: Option<&Frame>, end: Rational) -> Result<bool, AvError> {
        let Some(last) = last.filter(|_| self.task.plan.pitch == Pitch::Keep) else {
            graph.push(None)?;
            return self.take_from(graph);
        };
        let mut time = last.pts().unwrap_or(0).saturating_add(last.samples().into());
        for _ in 0..=last.sample_rate() / stretch::REST / stretch::PORTION {
            let mut silence = last.silence(stretch::PORTION.into())?;
            silence.set_times(time, stretch::PORTION.into());
            time += i64::from(stretch::PORTION);
            graph.push(Some(silence))?;
            while let Some(frame) = graph.pull()? {
                self.held.push_back(frame);
            }
        }
        self.release_rest(end)
    }

    /// Takes what a graph has ready; answers whether anybody wants more.
    fn take_from(&mut self, graph: &mut Graph) -> Result<bool, AvError> {
        while let Some(frame) = graph.pull()? {
            self.held.push_back(frame);
            let most = if self.task.keeps_speed() { 0 } else { self.task.plan.sample_rate / HELD_BACK };
            while self.held.iter().skip(1).map(Frame::samples).sum::<u32>() >= most
                && let Some(frame) = self.held.pop_front()
            {
                if !self.release(frame)? {
                    return Ok(false);
                }
            }
        }
        Ok(true)
    }

    /// Hands on what was held back, so that all sound is as long as it was before its speed was changed.
    fn release_rest(&mut self, end: Rational) -> Result<bool, AvError> {
        let Some(form) = self.held.back().map(|last| last.silence(1)).transpose()? else { return Ok(true) };
        let wanted = self.task.samples_until(end);
        while let Some(frame) = self.held.pop_front()
            && self.samples < wanted
        {
            let left = wanted - self.samples;
            let frame = if left < frame.samples().into() { frame.piece(0, left)? } else { frame };
            if !self.release(frame)? {
                return Ok(false);
            }
        }
        if self.samples < wanted { self.release(form.silence(wanted - self.samples)?) } else { Ok(true) }
    }

    fn release(&mut self, mut frame: Frame) -> Result<bool, AvError> {
        let length = i64::from(frame.samples());
        frame.set_times(self.samples, length);
        self.samples += length;
        self.portion(Some(frame))
    }

    /// Hands a frame, or the end, to the encoder in portions of its own length.
    fn portion(&mut self, frame: Option<Frame>) -> Result<bool, AvError> {
        let Some(length) = self.encoder.frame_samples() else {
            return frame.map_or(Ok(true), |frame| self.encode(&frame));
        };
        if self.portions.is_none() {
            let Some(first) = &frame else { return Ok(true) };
            let input = GraphInput::of_sound(first, self.clock());
            let mut graph = Graph::new(&input, "anull")?;
            graph.set_frame_samples(length);
            self.portions = Some(graph);
        }
        let Some(mut graph) = self.portions.take() else { return Ok(true) };
        graph.push(frame)?;
        while let Some(frame) = graph.pull()? {
            if !self.encode(&frame)? {
                return Ok(false);
            }
        }
        self.portions = Some(graph);
        Ok(true)
    }

    fn encode(&mut self, frame: &Frame) -> Result<bool, AvError> {
        let end = Rational::whole(frame.pts().unwrap_or(0).saturating_add(frame.samples().into())) * self.clock();
        let work = self.task.work;
        if work.run.plan.picture.is_none() {
            work.reach(end);
            work.count_frame();
        }
        work.give(self.task.slot, frame.samples().into(), end);
        self.encoder.send(Some(frame))?;
        self.pass_on()
    }

    fn finish(mut self, end: Rational) -> Result<(), AvError> {
        if self.release_rest(end)? && self.portion(None)? {
            self.encoder.send(None)?;
            self.pass_on()?;
        }
        self.task.destination.end();
        Ok(())
    }

    /// Says of the last packets how much of them is heard, where no edit list does; answers whether any is.
    fn trim(&self, packet: &mut Packet) -> Result<bool, AvError> {
        let in_packets = self.task.container.traits().trims_in_packets;
        let Some((begins, length)) = packet.pts().zip(self.encoder.frame_samples()).filter(|_| in_packets) else {
            return Ok(true);
        };
        let behind = begins + i64::from(length) - self.samples;
        match u32::try_from(behind) {
            Ok(behind) if behind >= length => Ok(false),
            Ok(behind @ 1..) => packet.discard_behind(behind).map(|()| true),
            Ok(0) | Err(_) => Ok(true),
        }
    }

    fn pass_on(&mut self) -> Result<bool, AvError> {
        for mut packet in self.encoder.receive()? {
            if !self.trim(&mut packet)? {
                continue;
            }
            if !self.task.destination.send(packet, Rational::ZERO) {
                return Ok(false);
            }
        }
        Ok(true)
    }
}
