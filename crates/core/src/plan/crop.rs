//! What is cut off.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::build::Journal;
use super::{Origin, PlanError, Subject};
use crate::facts::Picture;
use crate::findings::{BarsVerdict, Extent, Findings};
use crate::picture::{Frame, Orientation, Rectangle, crop_to_shape};
use crate::preset::{CropRule, PixelAspectRule};
use crate::reading::Reading;
use crate::time::Rational;

/// The picture as it is seen, how it was turned for that, and what is cut off.
#[derive(Debug, Clone, Copy)]
pub(super) struct Upright {
    pub(super) frame: Frame,
    pub(super) orientation: Orientation,
}

/// Whether a picture with the pixels that it declares would be shown with less than one column or line.
pub(super) fn is_impossible(source: &Picture) -> bool {
    let (columns, lines) = (Rational::whole(source.width.into()), Rational::whole(source.height.into()));
    let aspect = source.pixel_aspect;
    columns * aspect < Rational::ONE || lines.divided_by(aspect).is_none_or(|lines| lines < Rational::ONE)
}

impl Upright {
    pub(super) fn of(source: &Picture, aspect: PixelAspectRule) -> Self {
        let pixel_aspect = match aspect {
            PixelAspectRule::Set(aspect) => aspect,
            PixelAspectRule::Square | PixelAspectRule::Keep if is_impossible(source) => Rational::ONE,
            PixelAspectRule::Square | PixelAspectRule::Keep => source.pixel_aspect,
        };
        let stored = Frame { width: source.width, height: source.height, pixel_aspect };
        Self { frame: source.orientation.frame(stored), orientation: source.orientation }
    }

    /// The part of a stored picture, in the picture as it is seen.
    fn turned(self, part: Rectangle) -> Rectangle {
        let stored = self.orientation.frame(self.frame);
        self.orientation.part(part, stored.width, stored.height)
    }
}

/// What a crop rule comes to for one source.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Crop {
    /// Columns of the picture as it is seen, before anything is cut.
    pub width: u32,
    /// Lines of it.
    pub height: u32,
    /// What is kept of it.
    pub part: Rectangle,
    /// The share of the picture (bars left out) that goes, in ten-thousandths.
    pub picture_lost: u32,
    /// The share of what is kept that is bar, in ten-thousandths.
    pub bars_kept: u32,
    /// What is done: “cut to 1920×804”.
    pub what: String,
    /// Why.
    pub because: String,
}

/// What `rule` cuts off a source with this reading, its pixels as its header has them; nothing where
/// there is no picture.
///
/// # Errors
/// [`PlanError::Impossible`] where the rule leaves too little.
pub fn crop_of(reading: &Reading, rule: CropRule) -> Result<Option<Crop>, PlanError> {
    let Some((_, picture)) = reading.facts.picture() else { return Ok(None) };
    work_out(rule, Upright::of(picture, PixelAspectRule::Keep), reading.findings.as_ref()).map(Some)
}

/// The part of the upright picture that is kept; nothing where all of it is.
pub(super) fn decide(
    rule: CropRule,
    upright: Upright,
    findings: Option<&Findings>,
    journal: &mut Journal,
) -> Result<Option<Rectangle>, PlanError> {
    if rule == CropRule::Never {
        return Ok(None);
    }
    let crop = work_out(rule, upright, findings)?;
    let origin = if rule == CropRule::Bars { Origin::Source } else { Origin::Preset };
    journal.note(Subject::Crop, "/picture/crop", origin, crop.what, crop.because);
    Ok(Some(crop.part).filter(|part| *part != Rectangle::whole(upright.frame.width, upright.frame.height)))
}

fn work_out(rule: CropRule, upright: Upright, findings: Option<&Findings>) -> Result<Crop, PlanError> {
    let Frame { width, height, .. } = upright.frame;
    let whole = Rectangle::whole(width, height);
    let found = findings.and_then(|findings| Some((findings.extent, findings.bars.as_ref()?)));
    let active = found.map_or(whole, |(_, bars)| upright.turned(bars.active));
    let made = |part: Rectangle, what: String, because: String| {
        let share = |part: u64, of: u64| u32::try_from(part * 10_000 / of.max(1)).unwrap_or(10_000);
        let kept = part.common(active).area();
        let picture_lost = share(active.area().saturating_sub(kept), active.area());
        let bars_kept = share(part.area().saturating_sub(kept), part.area());
        Crop { width, height, part, picture_lost, bars_kept, what, because }
    };
    let uncut = |what: &str, because: String| Ok(made(whole, what.to_owned(), because));
    let cut = |part: Rectangle, because: String| Ok(made(part, format!("cropped to {}×{}", part.width, part.height), because));
    match rule {
        CropRule::Never => uncut("nothing cut off", "nothing is asked for".to_owned()),
        CropRule::Bars => match found {
            None => uncut("nothing cut off yet", "the source has not been analysed for bars".to_owned()),
            Some((_, bars)) if matches!(bars.verdict, BarsVerdict::None | BarsVerdict::Unknown) => {
                uncut("nothing cut off", bars.words.clone())
            }
            // Parts of a source cannot rule out that the picture is larger elsewhere.
            Some((extent, _)) if extent != Extent::Whole => {
                uncut("nothing cut off yet", "only parts of the source were looked at so far".to_owned())
            }
            Some((_, bars)) => cut(active.even_outward(width, height), bars.words.clone()),
        },
        CropRule::Shape { shape } => {
            let part = crop_to_shape(upright.frame, active, shape);
            let mut crop = made(part, format!("cropped to {}×{}", part.width, part.height), String::new());
            let share = |parts: u32| format!("{}.{:02} %", parts / 100, parts % 100);
            crop.because = format!(
                "a shape of {:.2} is wanted; {} of the picture goes, {} of what stays is bar",
                shape.to_f64(),
                share(crop.picture_lost),
                share(crop.bars_kept)
            );
            Ok(crop)
        }
        CropRule::ByHand { left, top, right, bottom } => {
            let leaves = |whole: u32, cut: u32| whole.checked_sub(cut).filter(|rest| *rest >= SMALLEST);
            let (Some(across), Some(down)) =
                (leaves(width, left.saturating_add(right)), leaves(height, top.saturating_add(bottom)))
            else {
                return Err(PlanError::of_source(
                    "picture.crop",
                    format!(
                        "cutting {left} and {right} columns and {top} and {bottom} lines off leaves too little of {width}×{height}: at least {SMALLEST} of each must stay"
                    ),
                ));
            };
            let part = Rectangle { x: left, y: top, width: across, height: down };
            let even = part.even_inward();
            let because = if even == part { "set by hand" } else { "set by hand, to the next pair: colour is stored for pairs" };
            cut(even, because.to_owned())
        }
    }
}

/// Columns and lines that must stay.
const SMALLEST: u32 = 16;
