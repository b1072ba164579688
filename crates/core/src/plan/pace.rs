//! Speed and frame rate.

use super::build::Journal;
use super::fields::Pace;
use super::{FrameRatePlan, Origin, Subject};
use crate::preset::{FrameRateRule, PictureSettings, RateConversion, SpeedRule};
use crate::time::{Rational, rate_text};

/// By what factor it plays faster than the source, and the pace that comes of it.
pub(super) fn decide_speed(settings: &PictureSettings, pace: Pace, journal: &mut Journal) -> (Rational, Pace) {
    let (factor, because) = match settings.speed {
        SpeedRule::Same => return (Rational::ONE, pace),
        SpeedRule::ToRate { rate } => {
            let factor = rate.divided_by(pace.rate).filter(|_| !pace.varies).unwrap_or(Rational::ONE);
            (factor, format!("every frame of {} is to fall on {}", rate_text(pace.rate), rate_text(rate)))
        }
        SpeedRule::Percent { percent } => (percent * Rational::constant(1, 100), "the editor's wish".to_owned()),
    };
    if factor == Rational::ONE {
        return (factor, pace);
    }
    let what = format!("played at {:.3} % of the speed", factor.to_f64() * 100.0);
    journal.note(Subject::Speed, "/picture/speed", Origin::Preset, what, because);
    (factor, Pace { rate: pace.rate * factor, nominal: pace.nominal * factor, ..pace })
}

/// The frame rate of the output, and how frames are brought to it where the source's do not have it.
pub(super) fn decide_rate(settings: &PictureSettings, pace: Pace, journal: &mut Journal) -> (FrameRatePlan, RateConversion) {
    let mean = pace.rate;
    let nominal = pace.nominal;
    let mut say = |origin, what: String, because: String| {
        journal.note(Subject::FrameRate, "/picture/frame_rate", origin, what, because);
    };
    let rule = match settings.frame_rate {
        // What is not faster than the limit stays as it is.
        FrameRateRule::AtMost { rate } if (if pace.varies { nominal } else { mean }) <= rate => FrameRateRule::Same,
        rule => rule,
    };
    match rule {
        FrameRateRule::KeepVariable if pace.varies => {
            let because = format!("the source varies around {}", rate_text(mean));
            say(Origin::Source, "variable, every frame keeps its time".to_owned(), because);
            (FrameRatePlan::Variable { mean }, RateConversion::DropRepeat)
        }
        FrameRateRule::Same | FrameRateRule::KeepVariable if pace.varies => {
            say(
                Origin::Source,
                format!("{} constant, frames repeated or dropped as needed", rate_text(nominal)),
                format!("the source varies around {} and a constant rate is wanted", rate_text(mean)),
            );
            (FrameRatePlan::Constant { rate: nominal }, RateConversion::DropRepeat)
        }
        FrameRateRule::Same | FrameRateRule::KeepVariable => {
            say(Origin::Source, format!("{} constant", rate_text(mean)), "the source has it".to_owned());
            (FrameRatePlan::Constant { rate: mean }, RateConversion::DropRepeat)
        }
        FrameRateRule::Constant { rate, by } => {
            let because = if mean == rate && !pace.varies {
                "the preset asks for it, and the source has it".to_owned()
            } else {
                let how = match by {
                    RateConversion::DropRepeat => "frames are repeated or dropped",
                    RateConversion::Blend => "neighbouring frames are blended",
                    RateConversion::Motion => "frames in between are motion-compensated, which takes many times as long",
                };
                format!("the preset asks for it; {how} (the source has {})", rate_text(mean))
            };
            say(Origin::Preset, format!("{} constant", rate_text(rate)), because);
            (FrameRatePlan::Constant { rate }, by)
        }
        FrameRateRule::AtMost { rate } => {
            let natural = if pace.varies { nominal } else { mean };
            // An even fraction of the source keeps motion regular: 25 at most 12 gives 25/2 only where that fits.
            let every = natural.divided_by(rate).map_or(1, Rational::ceil).max(1);
            let lowered = natural.divided_by(Rational::whole(every)).unwrap_or(rate);
            say(
                Origin::Preset,
                format!("{} constant, every {} frame kept", rate_text(lowered), ordinal(every)),
                format!("the source has {} and the preset allows {} at most", rate_text(natural), rate_text(rate)),
            );
            (FrameRatePlan::Constant { rate: lowered }, RateConversion::DropRepeat)
        }
    }
}

fn ordinal(number: i64) -> String {
    match number {
        2 => "second".to_owned(),
        3 => "third".to_owned(),
        other => format!("{other}th"),
    }
}
