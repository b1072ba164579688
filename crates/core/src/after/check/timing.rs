//! When things are shown: that every stream begins at nought and ends where what was given to it ends, and
//! that what was given is what the source promised.

use super::{Judge, MILLISECOND, Measured, StreamMeasure, given_to, is_moving_picture, is_sound, seconds_text, streams_of};
use crate::formats::Blocks;
use crate::plan::{FrameRatePlan, Plan, Track};
use crate::time::Rational;

/// What a source gave less than its header promised.
#[derive(Debug, Clone, Copy)]
pub(super) struct Loss {
    /// Seconds that were planned.
    pub(super) planned: Rational,
    /// Seconds that could be read.
    pub(super) read: Rational,
    /// Whether the source is broken, rather than its header wrong.
    pub(super) broken: bool,
}

/// Sound that ends this much before its planned end is no rounding.
const SOUND_ROUNDING: Rational = Rational::constant(1, 10);
/// Where the source is known to be cut, all but the end of one packet of sound counts.
const ROUNDING_AT_A_CUT: Rational = Rational::constant(1, 40);

/// What the source gave less than was planned, beyond rounding.
pub(super) fn loss(plan: &Plan, measured: &Measured) -> Option<Loss> {
    let (planned, read, rounding) = match &plan.picture {
        Some(picture) => {
            let read = measured.source_end.map(|end| plan.time_map().length(end))?;
            let frame = picture.frame_rate.rate().inverse().unwrap_or(Rational::ZERO);
            (picture.duration?, read, frame + frame)
        }
        None => {
            let rounding = if plan.source_is_cut { ROUNDING_AT_A_CUT } else { SOUND_ROUNDING };
            (plan.duration?, measured.given.iter().map(|given| given.end).max()?, rounding)
        }
    };
    let is_lost = planned - read > rounding;
    is_lost.then_some(Loss { planned, read, broken: !plan.salvage && (plan.source_is_cut || measured.decode_faults > 0) })
}

pub(super) fn judge(plan: &Plan, measured: &Measured, judge: &mut Judge) {
    judge_length(plan, measured, judge);
    for (slot, name, stream, tolerance) in tracks(plan, measured) {
        let is_encoded = given_to(measured, slot);
        // A stream that is copied keeps the places of its packets.
        let at_nought = if is_encoded.is_some() { stream.first.abs() <= MILLISECOND } else { stream.first >= -MILLISECOND };
        judge.item(format!("{name} begins"), seconds_text(Rational::ZERO), seconds_text(stream.first), at_nought);
        if let Some(given) = is_encoded {
            let short = given.end - stream.end;
            let fits = short <= MILLISECOND && -short <= tolerance;
            judge.item(format!("{name} ends"), seconds_text(given.end), seconds_text(stream.end), fits);
        }
    }
}

/// Place, name and measure of each stream, and by how much it may end later than what was given.
fn tracks<'a>(plan: &Plan, measured: &'a Measured) -> Vec<(usize, String, &'a StreamMeasure, Rational)> {
    let mut tracks = Vec::new();
    if let (Some(planned), Some((_, Some(measure)))) = (&plan.picture, streams_of(measured, is_moving_picture).first()) {
        // The last frame of a varying rate lasts as long as its format can say.
        let tolerance = match planned.frame_rate {
            FrameRatePlan::Constant { .. } => MILLISECOND,
            FrameRatePlan::Variable { mean } => mean.inverse().unwrap_or(MILLISECOND).max(MILLISECOND),
        };
        tracks.push((0, "picture".to_owned(), *measure, tolerance));
    }
    let first = usize::from(plan.picture.is_some());
    for (number, (planned, (_, measure))) in plan.sound.iter().zip(streams_of(measured, is_sound)).enumerate() {
        let Some(measure) = measure else { continue };
        let name = if plan.sound.len() == 1 { "sound".to_owned() } else { format!("sound {}", number + 1) };
        tracks.push((first + number, name, measure, padding(planned)));
    }
    tracks
}

/// Seconds by which coded sound may last longer than what was given: its last frame is filled up.
fn padding(sound: &Track) -> Rational {
    let block = |blocks: &Blocks| Rational::new(blocks.samples.into(), sound.sample_rate.into());
    MILLISECOND + sound.codec.blocks().and_then(block).unwrap_or(Rational::ZERO)
}

/// The length of the whole against what the source promised.
fn judge_length(plan: &Plan, measured: &Measured, judge: &mut Judge) {
    let Some(planned) = plan.duration else { return };
    let Some(end) = measured.streams.iter().map(|stream| stream.end).max() else { return };
    let frame = plan.picture.as_ref().and_then(|picture| picture.frame_rate.rate().inverse()).unwrap_or(Rational::ZERO);
    // Two frames of picture, or two packets of sound, whichever is longer.
    let tolerance = (frame + frame).max(Rational::constant(1, 20));
    let near = (planned - end).abs() <= tolerance;
    let lost = loss(plan, measured);
    if let Some(loss) = lost.filter(|loss| loss.broken) {
        judge.item("length of the source", seconds_text(loss.planned), seconds_text(loss.read), false);
    } else {
        let why = if plan.salvage {
            "the source was salvaged as far as it goes"
        } else {
            "that is the word of the source's header; all that is there was made"
        };
        judge.note("duration", seconds_text(planned), seconds_text(end), near, why);
    }
    if plan.source_is_cut && lost.is_none() {
        let why = "its end is missing, but nothing that was planned was lost with it";
        judge.note("source file", "whole", "cut short", false, why);
    }
}
