//! What making an output costs a processor.

use super::forecast::Forecast;
use crate::plan::{Plan, Step};
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
