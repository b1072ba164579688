//! What making an output costs a processor.

use serde::Serialize;
use utoipa::ToSchema;

use super::forecast::Forecast;
use crate::plan::{Plan, Step, Subject};
use crate::preset::RateConversion;

/// Processor nanoseconds for reading, scaling and handing on one pixel, whatever is made of it.
const HANDLING: f64 = 6.0;
/// Processor seconds for a second of sound.
const SOUND: f64 = 0.01;

/// Processor seconds that making `plan` is expected to take, by its forecast: what proofs have shown, or pixels times
/// what the codec costs, a first guess from measurements of the built-in presets, to be scaled by what runs really took.
#[must_use]
pub fn cpu_cost(plan: &Plan, forecast: &Forecast) -> f64 {
    match forecast.cpu_milliseconds {
        Some(milliseconds) => milliseconds as f64 / 1000.0,
        None => modelled_cost(plan) + forecast.decoding_milliseconds as f64 / 1000.0 * f64::from(plan.passes()),
    }
}

/// Processor seconds that making `plan` is expected to take by the model, without decoding.
#[must_use]
pub fn modelled_cost(plan: &Plan) -> f64 {
    let seconds = plan.known_duration().to_f64();
    let picture = plan.picture.as_ref().map_or(0.0, |picture| {
        let pixels = f64::from(picture.width) * f64::from(picture.height) * picture.frame_rate.rate().to_f64() * seconds;
        let coding = picture.format.effects().nanoseconds;
        let passes = if plan.passes() == 2 { 1.5 } else { 1.0 };
        let steps: f64 = picture.steps.iter().map(cost_of_step).sum();
        pixels * (coding * passes + HANDLING + steps * f64::from(plan.passes())) / 1e9
    });
    picture + SOUND * seconds
}

/// What the steps about one subject take of an output's processor time.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, ToSchema)]
pub struct SubjectCost {
    /// What they are about.
    pub subject: Subject,
    /// Their part of all of it, 0 to 1: a first guess, as [`cpu_cost`] is.
    pub share: f64,
}

/// What each kind of step takes of the processor time of an output, the dearest first; what costs next to nothing is left out.
#[must_use]
pub fn shares(plan: &Plan, forecast: &Forecast) -> Vec<SubjectCost> {
    let Some(picture) = &plan.picture else { return Vec::new() };
    let seconds = plan.known_duration().to_f64();
    let pixels = f64::from(picture.width) * f64::from(picture.height) * picture.frame_rate.rate().to_f64() * seconds;
    let mut costs: Vec<(Subject, f64)> = Vec::new();
    for (subject, step) in picture.steps.iter().filter_map(|step| Some((subject_of(step)?, step))) {
        let cost = pixels * cost_of_step(step) * f64::from(plan.passes()) / 1e9;
        match costs.iter_mut().find(|(known, _)| *known == subject) {
            Some((_, sum)) => *sum += cost,
            None => costs.push((subject, cost)),
        }
    }
    // Proofs may have shown that all of it takes less than the steps were thought to take.
    let whole = cpu_cost(plan, forecast).max(costs.iter().map(|(_, cost)| cost).sum());
    let mut shares: Vec<SubjectCost> = costs
        .into_iter()
        .map(|(subject, cost)| SubjectCost { subject, share: if whole > 0.0 { cost / whole } else { 0.0 } })
        .filter(|cost| cost.share >= 0.01)
        .collect();
    shares.sort_by(|one, other| other.share.total_cmp(&one.share));
    shares
}

/// What a step is about; nothing for what every output needs.
const fn subject_of(step: &Step) -> Option<Subject> {
    Some(match step {
        Step::Denoise { .. } | Step::Deblock { .. } => Subject::Cleaning,
        Step::Tone { .. } | Step::Recolour { .. } | Step::LookUp { .. } | Step::Adjust { .. } | Step::Grey => Subject::Colour,
        Step::Deinterlace { .. } | Step::Film { .. } | Step::EvenFilm { .. } => Subject::Fields,
        Step::ConstantRate { .. } => Subject::FrameRate,
        Step::Subtitles { .. } | Step::BurnIn(_) | Step::Watermark(_) => Subject::Overlays,
        Step::Turn { .. } | Step::Mirror => Subject::Rotation,
        Step::Crop { .. } => Subject::Crop,
        Step::Speed { .. } => Subject::Speed,
        Step::Pad { .. } => Subject::Size,
        Step::Resample { .. } | Step::Rearrange { .. } | Step::Earlier => return None,
    })
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
