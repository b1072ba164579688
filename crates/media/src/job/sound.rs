//! Sound encoders.

use std::collections::VecDeque;

use beryl_core::layout::is_placed;
use beryl_core::plan::SoundPlan;
use beryl_core::preset::Container;
use beryl_core::rational::Rational;
use crossbeam_channel::{Receiver, Sender};

use super::cost;
use super::pass::{Shared, TimedFrame, ToWriter, library_problem};
use super::work::Work;
use crate::raw::{AvError, Encoder, EncoderSettings, Frame, Graph, GraphInput, Packet};

/// Encodes one sound stream of one run.
pub(super) struct EncodeTask<'a> {
    pub(super) work: &'a Work<'a>,
    pub(super) shared: Shared<'a>,
    pub(super) slot: usize,
    pub(super) plan: &'a SoundPlan,
    pub(super) settings: EncoderSettings,
    pub(super) writer: Sender<ToWriter>,
}

impl EncodeTask<'_> {
    pub(super) fn run(self, frames: &Receiver<TimedFrame>) {
        if let Err(error) = self.encode(frames) {
            self.work.fail(library_problem(&self.work.what(), &error.to_string()));
        }
        cost::charge([self.work], &[]);
    }

    fn encode(&self, frames: &Receiver<TimedFrame>) -> Result<(), AvError> {
        // Opened before the first frame comes: a writer waits for all its streams.
        let encoder = Encoder::open(&self.settings)?;
        drop(self.writer.send(ToWriter::Open { slot: self.slot, stream: encoder.stream()? }));
        let mut outlet = Outlet { task: self, portions: None, encoder, samples: 0, held: VecDeque::new() };
        let mut graph: Option<(Graph, (GraphInput, bool))> = None;
        let mut end = Rational::ZERO;
        while let Ok(TimedFrame { frame, clock }) = frames.recv() {
            if !self.shared.goes_on() || !self.work.is_wanted(self.shared.control) {
                return Ok(());
            }
            end = Rational::whole(frame.pts().unwrap_or(0) + i64::from(frame.samples())) * clock;
            let input = GraphInput::of_sound(&frame, clock);
            let input = (input, frame.is_drifting());
            if graph.as_ref().is_none_or(|(_, present)| *present != input) {
                // A source whose sound changes its form in mid-stream, or begins to drift, goes on in the form of the output.
                if let Some((mut old, _)) = graph.take()
                    && !outlet.end_of(&mut old)?
                {
                    return Ok(());
                }
                graph = Some((self.graph(&input.0, input.1, &outlet.encoder)?, input));
            }
            let Some((present, _)) = &mut graph else { continue };
            present.push(Some(frame))?;
            if !outlet.take_from(present)? {
                return Ok(());
            }
        }
        if let Some((mut graph, _)) = graph
            && !outlet.end_of(&mut graph)?
        {
            return Ok(());
        }
        outlet.finish(end)
    }

    /// Resampled, mixed, and where its clock drifts stretched or drawn together until it keeps time: the places
    /// of frames tell by how much. What does not drift and keeps its rate comes through sample for sample.
    fn graph(&self, input: &GraphInput, drifts: bool, encoder: &Encoder) -> Result<Graph, AvError> {
        let SoundPlan { sample_rate, layout, speed, .. } = self.plan;
        let mixed = mixing(input, layout);
        let layouts = if is_placed(layout) { format!(":channel_layouts={layout}") } else { String::new() };
        let tempo = if self.keeps_speed() { String::new() } else { format!("atempo={},", speed.to_f64()) };
        // Without the flag the library would begin to resample only when it first has to, and forget the deviation.
        let follow = if drifts { ":async=2000:min_comp=0.00002:comp_duration=0.3:min_hard_comp=1000:flags=+res" } else { "" };
        let filters = format!(
            "{mixed}aresample={sample_rate}{follow},{tempo}aformat=sample_fmts={}:sample_rates={sample_rate}{layouts}",
            encoder.sample_format()
        );
        Graph::new(input, &filters)
    }

    fn keeps_speed(&self) -> bool {
        self.plan.speed == Rational::ONE
    }

    /// How many samples there are of sound that ends there in the source.
    fn samples_until(&self, end: Rational) -> i64 {
        let length = end.divided_by(self.plan.speed).unwrap_or(end);
        (length * Rational::whole(self.plan.sample_rate.into())).round()
    }
}

/// What mixes channels of which it is not known where they belong; others are mixed by their places.
fn mixing(input: &GraphInput, to: &str) -> String {
    let GraphInput::Sound { layout, channels, .. } = input else { return String::new() };
    if is_placed(layout) {
        return String::new();
    }
    match to {
        "mono" => {
            let part = 1.0 / f64::from((*channels).max(1));
            let parts: Vec<String> = (0..*channels).map(|channel| format!("{part}*c{channel}")).collect();
            format!("pan=mono|c0={},", parts.join("+"))
        }
        "stereo" => format!("channelmap=map=0|{}:channel_layout=stereo,", channels.saturating_sub(1).min(1)),
        _ => String::new(),
    }
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

    /// What is left in a graph that gets nothing more.
    fn end_of(&mut self, graph: &mut Graph) -> Result<bool, AvError> {
        graph.push(None)?;
        self.take_from(graph)
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
        let end = Rational::whole(frame.pts().unwrap_or(0) + i64::from(frame.samples())) * self.clock();
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
        Ok(())
    }

    /// Says of the last packets how much of them is heard, where no edit list does; answers whether any is.
    fn trim(&self, packet: &mut Packet) -> Result<bool, AvError> {
        let in_packets = self.task.work.run.plan.container == Container::Mkv;
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
            let packet = ToWriter::Packet { slot: self.task.slot, packet, shift: Rational::ZERO };
            if self.task.writer.send(packet).is_err() {
                return Ok(false);
            }
        }
        Ok(true)
    }
}
