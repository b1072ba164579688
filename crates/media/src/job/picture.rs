//! Picture steps and picture encoders.

use std::collections::BTreeMap;
use std::sync::PoisonError;
use std::time::Duration;

use beryl_core::formats::Container;
use beryl_core::plan::{FrameRatePlan, PicturePlan, Step};
use beryl_core::preset::Lead;
use beryl_core::time::Rational;
use crossbeam_channel::{Receiver, Sender};

use super::cost;
use super::trial::{Trial, Tried};
use super::wires::{Shared, TimedFrame, library_problem};

use super::steps::Chain;
use super::uniform::Uniform;
use super::work::Work;
use super::writer::Destination;
use crate::encoders::{self, Coding, Pass};
use crate::raw::{AvError, Encoder, Frame};
use crate::supplies::Supplies;

/// Works off a chain of steps, once for all that hangs on it.
pub(super) struct StageTask<'a> {
    pub(super) steps: Vec<Step>,
    pub(super) supplies: &'a Supplies,
    pub(super) shared: Shared<'a>,
    /// The runs for which it works.
    pub(super) works: Vec<&'a Work<'a>>,
}

impl StageTask<'_> {
    pub(super) fn run(self, frames: &Receiver<TimedFrame>, mut consumers: Vec<Sender<TimedFrame>>) {
        let mut chain = Chain::new(&self.steps, self.supplies);
        self.work_off(&mut chain, frames, &mut consumers);
        // While the filters' threads are still there.
        cost::charge(self.works.iter().copied(), &chain.threads());
    }

    fn work_off(&self, chain: &mut Chain<'_>, frames: &Receiver<TimedFrame>, consumers: &mut Vec<Sender<TimedFrame>>) {
        if let Err(error) = self.filter(chain, frames, consumers) {
            let problem = error.problem("the picture steps could not be worked off", "the filter library refused them");
            // What hangs on these steps ends; all else goes on.
            self.works.iter().for_each(|work| work.fail(problem.clone()));
            if self.works.is_empty() {
                self.shared.fail_source(problem);
            }
        }
    }

    fn filter(
        &self,
        chain: &mut Chain<'_>,
        frames: &Receiver<TimedFrame>,
        consumers: &mut Vec<Sender<TimedFrame>>,
    ) -> Result<(), AvError> {
        let mut done = Vec::new();
        loop {
            let frame = frames.recv().ok();
            let at_end = frame.is_none();
            if !self.shared.goes_on() {
                return Ok(());
            }
            chain.take(frame, &mut done)?;
            for frame in done.drain(..) {
                if !hand_on(&frame.frame, frame.clock, consumers) {
                    return Ok(());
                }
            }
            if at_end {
                return Ok(());
            }
        }
    }
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
    /// Where its packets go, except in a first pass.
    pub(super) destination: Option<Destination>,
    /// The format of the file.
    pub(super) container: Container,
    pub(super) global_header: bool,
    /// Of the encoder.
    pub(super) threads: u32,
    /// Whether nothing else is made in this pass.
    pub(super) is_alone: bool,
}

impl EncodeTask<'_> {
    pub(super) fn run(self, frames: &Receiver<TimedFrame>) {
        let Some(plan) = &self.work.run.plan.picture else { return };
        let mut encoder = None;
        let mut threads = Vec::new();
        if let Err(error) = self.encode(plan, frames, &mut encoder, &mut threads) {
            self.work.fail(library_problem(&self.work.what(), &error));
        }
        // While the encoder's threads are still there.
        cost::charge([self.work], &threads);
    }

    fn encode(
        &self,
        plan: &PicturePlan,
        frames: &Receiver<TimedFrame>,
        encoder: &mut Option<(Encoder, Rational)>,
        threads: &mut Vec<u32>,
    ) -> Result<(), AvError> {
        let mut trial = None;
        let began = cost::process_time();
        // Not all encoders hand the lengths of frames on to their packets.
        let mut lengths = BTreeMap::new();
        let mut last = i64::MIN;
        let mut form = Uniform::planned(plan);
        while let Ok(TimedFrame { mut frame, clock }) = frames.recv() {
            if !self.shared.goes_on() || !self.work.is_wanted(self.shared.control) {
                return Ok(());
            }
            if encoder.is_none() {
                let (opened, new) = cost::while_opening(|| self.open(plan, clock));
                *encoder = Some(opened?);
                *threads = new;
                trial = self.trial(plan, clock);
            }
            let Some((open, encoder_clock)) = encoder else { continue };
            let time = frame.pts().map_or(last + 1, |pts| rescale(pts, clock, *encoder_clock)).max(last.saturating_add(1));
            last = time;
            // Filters leave lengths in their input's clock; at a constant rate each is one tick.
            let length = match plan.frame_rate {
                FrameRatePlan::Constant { .. } => 1,
                FrameRatePlan::Variable { .. } => rescale(frame.duration(), clock, *encoder_clock).max(1),
            };
            if plan.lead == Lead::Black && frame.is_leading() {
                frame = frame.black()?;
            }
            // Filters may leave other samples than planned, and what is marked may lie where the source has another size.
            if form.is_other(&frame) {
                frame = form.fit_coloured(frame)?;
            }
            frame.set_times(time, length);
            lengths.insert(time, length);
            if plan.hdr.is_none() {
                frame.is_standard_now();
            }
            frame.prepare_for_encoding(plan.field_order, &plan.colour);
            match trial.as_mut().map(|trial| trial.take(&frame)) {
                Some(Ok(Some(tried))) => {
                    self.note_first_share(&tried, cost::of(threads), cost::process_time().saturating_sub(began));
                }
                // What is known so far stands: no output is given up for a figure.
                Some(Err(_)) => trial = None,
                Some(Ok(None)) | None => {}
            }
            open.send(Some(&frame))?;
            self.work.count_frame();
            if self.pass != Pass::First {
                self.work.sketch(&frame, Rational::whole(time) * *encoder_clock)?;
            }
            self.work.give(0, 1, Rational::whole(time.saturating_add(length)) * *encoder_clock);
            if !self.pass_on(open, *encoder_clock, &mut lengths, false)? {
                return Ok(());
            }
        }
        if let Some((open, encoder_clock)) = encoder
            && self.shared.goes_on()
            && self.work.is_wanted(self.shared.control)
        {
            open.send(None)?;
            self.pass_on(open, *encoder_clock, &mut lengths, self.work.frames() <= KEEP_THEIR_ORDER)?;
            self.destination.iter().for_each(Destination::end);
        }
        Ok(())
    }

    /// Notes what part of both passes the first takes, by its encoder's own processor time and that of the whole job.
    fn note_first_share(&self, tried: &Tried, own: Duration, all: Duration) {
        let Some(usual) = self.work.run.plan.first_pass_share() else { return };
        // What is usual counts as one trial; the beginning of a job is no measure of what goes on beside its encoder.
        let trials = f64::from(tried.trials);
        let dearer = (tried.dearer * trials + (1.0 - usual) / usual) / (trials + 1.0);
        let is_measure = self.is_alone && tried.trials > 1;
        let beside = if is_measure { all.saturating_sub(own).as_secs_f64() } else { 0.0 };
        let encoder = own.saturating_sub(tried.took).as_secs_f64();
        self.work.weigh((beside + encoder) / (2.0 * beside + encoder * (1.0 + dearer)));
    }

    /// For a first pass that is made with less effort than the second.
    fn trial(&self, plan: &PicturePlan, clock: Rational) -> Option<Trial> {
        let is_lighter = encoders::has_light_first_pass(plan.format.codec()) && self.pass == Pass::First;
        let frames = plan.frames.filter(|_| is_lighter)?;
        let clock = encoders::picture_clock(plan.frame_rate, clock);
        let notes = self.work.notes_file.to_string_lossy();
        let settings = |pass| encoders::picture(self.coding(plan, pass, &notes), clock, None);
        Trial::new(frames, [settings(Pass::First).ok()?, settings(Pass::Single).ok()?])
    }

    const fn coding<'a>(&self, plan: &'a PicturePlan, pass: Pass, notes: &'a str) -> Coding<'a> {
        Coding { plan, pass, notes, threads: self.threads, global_header: self.global_header }
    }

    fn open(&self, plan: &PicturePlan, clock: Rational) -> Result<(Encoder, Rational), AvError> {
        let clock = encoders::picture_clock(plan.frame_rate, clock);
        let first_pass =
            (self.pass == Pass::Second).then(|| self.work.notes.lock().unwrap_or_else(PoisonError::into_inner).clone());
        let first_pass = first_pass.filter(|notes| !notes.is_empty());
        let settings =
            encoders::picture(self.coding(plan, self.pass, &self.work.notes_file.to_string_lossy()), clock, first_pass)?;
        let encoder = Encoder::open(&settings)?;
        if let Some(destination) = &self.destination {
            let mut stream = encoder.stream()?;
            if let FrameRatePlan::Variable { .. } = plan.frame_rate {
                stream.rate = None;
            }
            stream.hdr = plan.hdr.clone().map(Box::new);
            if let Some(tag) = encoders::picture_tag(self.container, plan.format.codec()) {
                stream.set_tag(tag);
            }
            destination.open(stream);
        }
        Ok((encoder, clock))
    }

    /// Hands the encoder's packets on; answers whether anybody wants more.
    fn pass_on(
        &self,
        encoder: &mut Encoder,
        clock: Rational,
        lengths: &mut BTreeMap<i64, i64>,
        are_in_order: bool,
    ) -> Result<bool, AvError> {
        let packets = encoder.receive()?;
        if self.pass == Pass::First {
            let notes = encoder.take_first_pass_notes();
            self.work.notes.lock().unwrap_or_else(PoisonError::into_inner).push_str(&notes);
        }
        for mut packet in packets {
            // What has gone in may wait for a hundred others to come out.
            self.work.reach(packet.pts().map_or(Rational::ZERO, |time| Rational::whole(time) * clock));
            if self.pass == Pass::First {
                continue;
            }
            if let Some(length) = packet.pts().and_then(|time| lengths.remove(&time)) {
                packet.set_duration(length);
            }
            if let Some(time) = packet.pts().filter(|_| are_in_order) {
                packet.set_times(time, packet.duration());
            }
            if self.destination.as_ref().is_some_and(|destination| !destination.send(packet, Rational::ZERO)) {
                return Ok(false);
            }
        }
        Ok(true)
    }
}

/// So few pictures are coded in the order in which they are shown. Encoders that reorder more of them take the times
/// at which these are decoded from memory that nobody has written.
const KEEP_THEIR_ORDER: u64 = 2;

fn rescale(ticks: i64, from: Rational, to: Rational) -> i64 {
    if from == to { ticks } else { (Rational::whole(ticks) * from).divided_by(to).map_or(ticks, Rational::round) }
}
