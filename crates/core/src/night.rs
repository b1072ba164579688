//! The forecast of the night: when which job will run in which engine slot.

use std::collections::HashMap;
use std::hash::Hash;

use serde::Serialize;
use utoipa::ToSchema;

use crate::plan::{Plan, Step};
use crate::preset::{Effort, PictureCodec, RateConversion};

/// Processor nanoseconds for reading, scaling and handing on one pixel, whatever is made of it.
const HANDLING: f64 = 6.0;
/// Processor seconds for a second of sound.
const SOUND: f64 = 0.01;

/// Processor seconds that making `plan` is expected to take: pixels times what the codec costs,
/// a first guess from measurements of the built-in presets, to be scaled by what runs really took; or what
/// proofs have shown.
#[must_use]
pub fn cpu_cost(plan: &Plan) -> f64 {
    if let Some(milliseconds) = plan.forecast.cpu_milliseconds {
        return milliseconds as f64 / 1000.0;
    }
    let seconds = plan.known_duration().to_f64();
    let picture = plan.picture.as_ref().map_or(0.0, |picture| {
        let pixels = f64::from(picture.width) * f64::from(picture.height) * picture.frame_rate.rate().to_f64() * seconds;
        let of_codec = match picture.codec {
            PictureCodec::H264 => 16.0,
            PictureCodec::Hevc => 90.0,
            PictureCodec::Prores => 12.0,
            PictureCodec::Ffv1 => 6.0,
            PictureCodec::Mpeg2 => 6.0,
        };
        let effort = match (picture.codec, picture.effort) {
            (PictureCodec::Prores | PictureCodec::Mpeg2 | PictureCodec::Ffv1, _) | (_, Effort::Balanced) => 1.0,
            (_, Effort::Quick) => 0.5,
            (_, Effort::Thorough) => 2.5,
        };
        let passes = if plan.passes() == 2 { 1.5 } else { 1.0 };
        let steps: f64 = picture.steps.iter().map(cost_of_step).sum();
        pixels * (of_codec * effort * passes + HANDLING + steps * f64::from(plan.passes())) / 1e9
    });
    let decoding = plan.forecast.decoding_milliseconds as f64 / 1000.0 * f64::from(plan.passes());
    picture + SOUND * seconds + decoding
}

/// Nanoseconds of one core that a step takes for each pixel of the output: a first guess, to be scaled by what runs
/// really took. Denoising, deblocking, deinterlacing, tables, conversion and text were measured over one clip.
const fn cost_of_step(step: &Step) -> f64 {
    match step {
        Step::Denoise { .. } => 110.0,
        Step::Tone { .. } => 40.0,
        Step::Recolour { .. } => 25.0,
        Step::LookUp { .. } => 25.0,
        Step::Deblock { .. } => 30.0,
        Step::Deinterlace { .. } | Step::Film { .. } => 27.0,
        Step::ConstantRate { by: RateConversion::Motion, .. } => 1500.0,
        Step::ConstantRate { by: RateConversion::Blend, .. } => 15.0,
        Step::Subtitles { .. } | Step::BurnIn(_) | Step::Watermark(_) => 13.0,
        Step::Adjust { .. } | Step::Grey => 9.0,
        Step::Resample { .. } | Step::Rearrange { .. } => 10.0,
        Step::Turn { .. } | Step::Mirror | Step::Pad { .. } => 4.0,
        Step::EvenFilm { .. } | Step::Speed { .. } | Step::Crop { .. } | Step::Earlier => 0.0,
        Step::ConstantRate { by: RateConversion::DropRepeat, .. } => 0.0,
    }
}

/// A job that an engine works on now.
#[derive(Debug, Clone, PartialEq)]
pub struct JobAtWork<R> {
    /// Its runs.
    pub runs: Vec<R>,
    /// Seconds it still takes if nothing changes.
    pub remaining: f64,
}

/// A run that waits.
#[derive(Debug, Clone, PartialEq)]
pub struct WaitingRun<R, S> {
    /// The run.
    pub run: R,
    /// Its source: runs of one source are made together.
    pub source: S,
    /// Processor seconds it takes.
    pub cpu: f64,
}

/// A job in its place along the clock.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct Block<R> {
    /// The engine slot, from 0.
    pub lane: usize,
    /// What is made.
    pub runs: Vec<R>,
    /// Seconds from now; 0 for what is at work.
    pub start: f64,
    /// Seconds from now.
    pub end: f64,
}

/// Lays jobs out over `lanes` engine slots of a machine with `cores`: those at work, then those
/// that wait in their order, at most `together` runs of one source in a job. All jobs that run at
/// a moment share the cores evenly.
#[must_use]
pub fn lay_out<R: Copy, S: Copy + Eq + Hash>(
    at_work: &[JobAtWork<R>],
    waiting: &[WaitingRun<R, S>],
    lanes: usize,
    cores: usize,
    together: usize,
) -> Vec<Block<R>> {
    let lanes = lanes.max(at_work.len()).max(1);
    let cores = cores.max(1) as f64;
    let share = cores / at_work.len().max(1) as f64;
    let mut open: Vec<Option<(Block<R>, f64)>> = (0..lanes).map(|_| None).collect();
    for (lane, job) in at_work.iter().enumerate() {
        let block = Block { lane, runs: job.runs.clone(), start: 0.0, end: 0.0 };
        open[lane] = Some((block, job.remaining.max(0.0) * share));
    }
    let mut queue = jobs_of(waiting, together.max(1)).into_iter();
    let mut done = Vec::new();
    let mut now = 0.0;
    loop {
        for (lane, slot) in open.iter_mut().enumerate().filter(|(_, slot)| slot.is_none()) {
            let Some((runs, cpu)) = queue.next() else { break };
            *slot = Some((Block { lane, runs, start: now, end: now }, cpu));
        }
        let active = open.iter().flatten().count();
        let Some(least) = open.iter().flatten().map(|(_, left)| *left).min_by(f64::total_cmp) else { break };
        let pace = cores / active as f64;
        now += least / pace;
        for slot in &mut open {
            if let Some((block, left)) = slot {
                *left -= least;
                if *left <= 1e-9 {
                    block.end = now;
                    done.extend(slot.take().map(|(block, _)| block));
                }
            }
        }
    }
    done.sort_by(|one: &Block<R>, other| one.start.total_cmp(&other.start).then(one.lane.cmp(&other.lane)));
    done
}

/// Waiting runs as the jobs that will be claimed: the first, and others of its source with it.
fn jobs_of<R: Copy, S: Copy + Eq + Hash>(waiting: &[WaitingRun<R, S>], together: usize) -> Vec<(Vec<R>, f64)> {
    let mut jobs: Vec<(Vec<R>, f64)> = Vec::new();
    let mut open: HashMap<S, usize> = HashMap::new();
    for run in waiting {
        match open.get(&run.source).and_then(|job| jobs.get_mut(*job)).filter(|(runs, _)| runs.len() < together) {
            Some((runs, cpu)) => {
                runs.push(run.run);
                *cpu += run.cpu;
            }
            None => {
                open.insert(run.source, jobs.len());
                jobs.push((vec![run.run], run.cpu));
            }
        }
    }
    jobs
}
