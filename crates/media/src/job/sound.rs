//! Sound encoders.

use std::sync::Arc;

use beryl_core::plan::SoundPlan;
use beryl_core::rational::Rational;
use crossbeam_channel::{Receiver, Sender};

use super::cost;
use super::pass::{Shared, TimedFrame, ToWriter, library_problem};
use super::work::{SourceTimes, Work};
use crate::raw::{AvError, Encoder, EncoderSettings, Graph, GraphInput};

/// Encodes one sound stream of one run.
pub(super) struct EncodeTask<'a> {
    pub(super) work: &'a Work<'a>,
    pub(super) shared: Shared<'a>,
    pub(super) slot: usize,
    /// The stream of the source.
    pub(super) stream: usize,
    pub(super) plan: &'a SoundPlan,
    pub(super) settings: EncoderSettings,
    pub(super) writer: Sender<ToWriter>,
    pub(super) times: Arc<SourceTimes>,
    pub(super) origin: Rational,
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
        let mut encoder = Encoder::open(&self.settings)?;
        drop(self.writer.send(ToWriter::Open { slot: self.slot, stream: encoder.stream()? }));
        let mut graph: Option<(Graph, GraphInput)> = None;
        while let Ok(TimedFrame { frame, clock }) = frames.recv() {
            if !self.shared.goes_on() || !self.work.is_wanted(self.shared.control) {
                return Ok(());
            }
            let input =
                GraphInput::Sound { sample_rate: frame.sample_rate(), format: frame.format(), layout: frame.layout(), clock };
            if graph.as_ref().is_none_or(|(_, present)| *present != input) {
                if let Some((mut old, _)) = graph.take() {
                    old.push(None)?;
                    if !self.drain(&mut old, &mut encoder)? {
                        return Ok(());
                    }
                }
                graph = Some((self.graph(&input, &encoder)?, input));
            }
            let Some((present, _)) = &mut graph else { continue };
            present.push(Some(frame))?;
            if !self.drain(present, &mut encoder)? {
                return Ok(());
            }
        }
        if let Some((mut graph, _)) = graph {
            graph.push(None)?;
            if !self.drain(&mut graph, &mut encoder)? {
                return Ok(());
            }
        }
        encoder.send(None)?;
        self.pass_on(&mut encoder).map(|_| ())
    }

    /// Resampled, mixed, its gaps filled with silence, in frames as long as the encoder wants them.
    fn graph(&self, input: &GraphInput, encoder: &Encoder) -> Result<Graph, AvError> {
        let SoundPlan { sample_rate, layout, speed, .. } = self.plan;
        let tempo = if *speed == Rational::ONE { String::new() } else { format!("atempo={},", speed.to_f64()) };
        let filters = format!(
            "aresample={sample_rate}:async=1,{tempo}aformat=sample_fmts={}:sample_rates={sample_rate}:channel_layouts={layout}",
            encoder.sample_format()
        );
        let mut graph = Graph::new(input, &filters)?;
        if let Some(samples) = encoder.frame_samples() {
            graph.set_frame_samples(samples);
        }
        Ok(graph)
    }

    fn drain(&self, graph: &mut Graph, encoder: &mut Encoder) -> Result<bool, AvError> {
        while let Some(frame) = graph.pull()? {
            if let Some(end) =
                frame.pts().and_then(|pts| Rational::new(pts + i64::from(frame.samples()), self.plan.sample_rate.into()))
                && self.work.run.plan.picture.is_none()
            {
                self.work.reach(end);
                self.work.count_frame();
            }
            encoder.send(Some(&frame))?;
            if !self.pass_on(encoder)? {
                return Ok(false);
            }
        }
        Ok(true)
    }

    fn pass_on(&self, encoder: &mut Encoder) -> Result<bool, AvError> {
        let start = self.times.first(self.stream).unwrap_or(self.origin);
        let shift = self.work.run.plan.at_its_speed(start - self.origin);
        for packet in encoder.receive()? {
            if self.writer.send(ToWriter::Packet { slot: self.slot, packet, shift }).is_err() {
                return Ok(false);
            }
        }
        Ok(true)
    }
}
