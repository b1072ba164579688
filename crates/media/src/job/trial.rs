//! What the second of two passes will take, tried on a few pictures of the first.

use std::time::Duration;

use super::cost::thread_time;
use crate::raw::{AvError, Encoder, EncoderSettings, Frame};

/// Pictures that are tried in a row.
const TRIED: u64 = 16;
/// From one beginning of a trial to the next, at least: trials add some three percent to a short film, and less to a long one.
const APART: u64 = 600;
/// So many trials in a longer film.
const TRIALS: u64 = 8;
/// What is made sooner needs no trial.
const SHORTEST: u64 = 500;

/// Encodes pictures of a first pass as the first and as the second pass would, on one thread, and compares what both
/// take.
pub(super) struct Trial {
    settings: [EncoderSettings; 2],
    every: u64,
    count: u64,
    under_way: Option<[Encoder; 2]>,
    trials: u32,
    took: [Duration; 2],
}

/// What trials have shown.
pub(super) struct Tried {
    /// How many there were.
    pub(super) trials: u32,
    /// What encoding costs in the second pass, as a multiple of what it costs in the first.
    pub(super) dearer: f64,
    /// Processor time of all trials.
    pub(super) took: Duration,
}

impl Trial {
    /// For so many pictures; nothing where it is not worth it. The settings are those of the first pass, and of a
    /// single one.
    pub(super) fn new(frames: u64, settings: [EncoderSettings; 2]) -> Option<Self> {
        let every = APART.max(frames / TRIALS);
        let settings = settings.map(EncoderSettings::on_one_thread);
        (frames >= SHORTEST).then_some(Self { settings, every, count: 0, under_way: None, trials: 0, took: [Duration::ZERO; 2] })
    }

    /// Takes the next picture; after a trial, answers what all so far have shown.
    pub(super) fn take(&mut self, frame: &Frame) -> Result<Option<Tried>, AvError> {
        let place = self.count % self.every;
        self.count += 1;
        if place == 0 {
            let [first, second] = &self.settings;
            self.under_way = Some([Encoder::open(first)?, Encoder::open(second)?]);
        }
        let Some(encoders) = &mut self.under_way else { return Ok(None) };
        let is_last = place + 1 == TRIED;
        for (encoder, took) in encoders.iter_mut().zip(&mut self.took) {
            let began = thread_time();
            encoder.send(Some(frame))?;
            encoder.receive()?;
            if is_last {
                encoder.send(None)?;
                encoder.receive()?;
            }
            *took += thread_time().saturating_sub(began);
        }
        if !is_last {
            return Ok(None);
        }
        self.under_way = None;
        self.trials += 1;
        let [first, second] = self.took;
        let dearer = second.as_secs_f64() / first.as_secs_f64();
        Ok(dearer.is_finite().then_some(Tried { trials: self.trials, dearer, took: first + second }))
    }
}
