//! Picture steps and picture encoders.

use std::collections::BTreeMap;
use std::sync::{Arc, PoisonError};

use beryl_core::plan::{FrameRatePlan, PicturePlan, Step};
use beryl_core::problem::{Problem, ProblemKind};
use beryl_core::rational::Rational;
use crossbeam_channel::{Receiver, Sender};

use super::pass::{Shared, TimedFrame, ToWriter, library_problem};
use super::work::{SourceTimes, Work};
use crate::encoders::{self, Pass};
use crate::filters;
use crate::raw::{AvError, Encoder, Frame, Graph, GraphInput};

/// Works off a chain of steps, once for all that hangs on it.
pub(super) struct StageTask<'a> {
    pub(super) steps: Vec<Step>,
    pub(super) shared: Shared<'a>,
}

impl StageTask<'_> {
    pub(super) fn run(self, frames: &Receiver<TimedFrame>, mut consumers: Vec<Sender<TimedFrame>>) {
        if self.steps.is_empty() {
            while let Ok(frame) = frames.recv() {
                if !self.shared.goes_on() || !hand_on(&frame.frame, frame.clock, &mut consumers) {
                    return;
                }
            }
            return;
        }
        if let Err(error) = self.filter(frames, &mut consumers) {
            self.shared.fail_source(
                Problem::new(
                    ProblemKind::Unsupported,
                    "the picture steps could not be worked off",
                    "the filter library refused them",
                )
                .with_details(error.to_string()),
            );
        }
    }

    fn filter(&self, frames: &Receiver<TimedFrame>, consumers: &mut Vec<Sender<TimedFrame>>) -> Result<(), AvError> {
        let text = filters::text(&self.steps);
        let mut graph: Option<(Graph, GraphInput)> = None;
        while let Ok(TimedFrame { frame, clock }) = frames.recv() {
            if !self.shared.goes_on() {
                return Ok(());
            }
            let input = GraphInput::Picture {
                width: frame.width(),
                height: frame.height(),
                format: frame.format(),
                pixel_aspect: frame.pixel_aspect().unwrap_or(Rational::ONE),
                clock,
                rate: None,
            };
            // A source whose pictures change in the middle gets new filters; what comes out keeps its form.
            if graph.as_ref().is_none_or(|(_, present)| *present != input) {
                if let Some((mut old, _)) = graph.take() {
                    old.push(None)?;
                    if !drain(&mut old, consumers)? {
                        return Ok(());
                    }
                }
                graph = Some((Graph::new(&input, &text)?, input));
            }
            let Some((present, _)) = &mut graph else { continue };
            present.push(Some(frame))?;
            if !drain(present, consumers)? {
                return Ok(());
            }
        }
        if let Some((mut graph, _)) = graph {
            graph.push(None)?;
            drain(&mut graph, consumers)?;
        }
        Ok(())
    }
}

/// Hands on what has come out; answers whether anybody wants more.
fn drain(graph: &mut Graph, consumers: &mut Vec<Sender<TimedFrame>>) -> Result<bool, AvError> {
    let clock = graph.clock();
    while let Some(frame) = graph.pull()? {
        if !hand_on(&frame, clock, consumers) {
            return Ok(false);
        }
    }
    Ok(!consumers.is_empty())
}

fn hand_on(frame: &Frame, clock: Rational, consumers: &mut Vec<Sender<TimedFrame>>) -> bool {
    consumers.retain(|consumer| consumer.send(TimedFrame { frame: frame.clone(), clock }).is_ok());
    !consumers.is_empty()
}

/// Encodes the picture of one run.
pub(super) struct EncodeTask<'a> {
    pub(super) work: &'a Work<'a>,
    pub(super) pass: Pass,
    pub(super) shared: Shared<'a>,
    pub(super) writer: Option<Sender<ToWriter>>,
    pub(super) times: Arc<SourceTimes>,
    pub(super) origin: Rational,
    pub(super) global_header: bool,
}

impl EncodeTask<'_> {
    pub(super) fn run(self, frames: &Receiver<TimedFrame>) {
        let Some(plan) = &self.work.run.plan.picture else { return };
        if let Err(error) = self.encode(plan, frames) {
            self.work.fail(library_problem(&self.work.what(), &error.to_string()));
        }
    }

    fn encode(&self, plan: &PicturePlan, frames: &Receiver<TimedFrame>) -> Result<(), AvError> {
        let mut encoder: Option<(Encoder, Rational)> = None;
        // Not all encoders hand the lengths of frames on to their packets.
        let mut lengths = BTreeMap::new();
        let mut last = i64::MIN;
        while let Ok(TimedFrame { mut frame, clock }) = frames.recv() {
            if !self.shared.goes_on() || !self.work.is_wanted(self.shared.control) {
                return Ok(());
            }
            if encoder.is_none() {
                encoder = Some(self.open(plan, clock)?);
            }
            let Some((open, encoder_clock)) = &mut encoder else { continue };
            let time = frame.pts().map_or(last + 1, |pts| rescale(pts, clock, *encoder_clock)).max(last.saturating_add(1));
            last = time;
            // Filters leave lengths in their input's clock; at a constant rate each is one tick.
            let length = match plan.frame_rate {
                FrameRatePlan::Constant { .. } => 1,
                FrameRatePlan::Variable { .. } => rescale(frame.duration(), clock, *encoder_clock).max(1),
            };
            frame.set_times(time, length);
            lengths.insert(time, length);
            frame.prepare_for_encoding(plan.field_order);
            open.send(Some(&frame))?;
            self.work.count_frame();
            self.work.reach(Rational::whole(time) * *encoder_clock);
            if !self.pass_on(open, &mut lengths)? {
                return Ok(());
            }
        }
        if let Some((mut open, _)) = encoder
            && self.shared.goes_on()
            && self.work.is_wanted(self.shared.control)
        {
            open.send(None)?;
            self.pass_on(&mut open, &mut lengths)?;
        }
        Ok(())
    }

    fn open(&self, plan: &PicturePlan, clock: Rational) -> Result<(Encoder, Rational), AvError> {
        let clock = encoders::picture_clock(plan.frame_rate, clock);
        let first_pass =
            (self.pass == Pass::Second).then(|| self.work.notes.lock().unwrap_or_else(PoisonError::into_inner).clone());
        let first_pass = first_pass.filter(|notes| !notes.is_empty());
        let settings =
            encoders::picture(plan, clock, self.pass, &self.work.notes_file.to_string_lossy(), first_pass, self.global_header)?;
        let encoder = Encoder::open(&settings)?;
        if let Some(writer) = &self.writer {
            let mut stream = encoder.stream()?;
            if let FrameRatePlan::Variable { .. } = plan.frame_rate {
                stream.rate = None;
            }
            if let Some(tag) = encoders::picture_tag(self.work.run.plan.container, plan.codec) {
                stream.set_tag(tag);
            }
            // Where the writer has given up, the first packet will show it.
            drop(writer.send(ToWriter::Open { slot: 0, stream }));
        }
        Ok((encoder, clock))
    }

    /// Hands the encoder's packets on; answers whether anybody wants more.
    fn pass_on(&self, encoder: &mut Encoder, lengths: &mut BTreeMap<i64, i64>) -> Result<bool, AvError> {
        let start = self.times.picture_start.get().copied().unwrap_or(self.origin);
        for mut packet in encoder.receive()? {
            if self.pass == Pass::First {
                if let Some(notes) = encoder.first_pass_notes() {
                    self.work.notes.lock().unwrap_or_else(PoisonError::into_inner).push_str(&notes);
                }
                continue;
            }
            if let Some(length) = packet.pts().and_then(|time| lengths.remove(&time)) {
                packet.set_duration(length);
            }
            let Some(writer) = &self.writer else { continue };
            if writer.send(ToWriter::Packet { slot: 0, packet, shift: start - self.origin }).is_err() {
                return Ok(false);
            }
        }
        Ok(true)
    }
}

fn rescale(ticks: i64, from: Rational, to: Rational) -> i64 {
    if from == to { ticks } else { (Rational::whole(ticks) * from).divided_by(to).map_or(ticks, Rational::round) }
}
