//! What follows from findings: mendings that an editor may take with one click, each a patch on the
//! settings of the source. Nothing is done by itself; where the editor has settings of his own for
//! the same thing, they stay until the suggestion is taken.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::findings::{BarsVerdict, ColourContent, Extent, FieldsVerdict, Findings, StretchKind};
use crate::plan::Subject;
use crate::preset::{
    CleaningPatch, CropRuleForm, CropRulePatch, DeinterlacedFrames, DeinterlacingPatch, Denoising, FieldsRule, FrameRateRuleForm,
    FrameRateRulePatch, PictureSettingsPatch, PresetPatch, SpeedRuleForm, SpeedRulePatch, TelecineRule,
};
use crate::time::{Rational, rate_text};

/// A mending that follows from findings.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Suggestion {
    /// What it is about.
    pub subject: Subject,
    /// What would be done.
    pub what: String,
    /// Why.
    pub because: String,
    /// The settings that do it.
    pub settings: PresetPatch,
}

/// The suggestions of several sources, those with the same settings as one, in the order in which they come first.
#[must_use]
pub fn gathered<Id>(all: impl IntoIterator<Item = (Id, Suggestion)>) -> Vec<(Suggestion, Vec<Id>)> {
    let mut groups: Vec<(Suggestion, Vec<Id>)> = Vec::new();
    for (id, suggestion) in all {
        match groups.iter_mut().find(|(known, _)| known.subject == suggestion.subject && known.settings == suggestion.settings) {
            Some((known, ids)) => {
                ids.push(id);
                if known.what != suggestion.what {
                    known.what = in_common(&known.what, &suggestion.what).to_owned();
                }
                if known.because != suggestion.because {
                    known.because = "each for reasons of its own".to_owned();
                }
            }
            None => groups.push((suggestion, vec![id])),
        }
    }
    groups
}

/// What two suggestions say alike: all up to the comma before what is each one's own.
fn in_common<'a>(one: &'a str, other: &str) -> &'a str {
    let alike =
        one.char_indices().zip(other.chars()).find(|((_, own), other)| own != other).map_or(one.len(), |((place, _), _)| place);
    let head = one.get(..alike).unwrap_or(one);
    one.get(..head.rfind(',').unwrap_or(alike)).unwrap_or(one).trim_end()
}

/// What findings suggest.
#[must_use]
pub fn suggestions(findings: &Findings) -> Vec<Suggestion> {
    let mut made = Vec::new();
    let mut suggest = |subject, what: String, because: String, picture: PictureSettingsPatch| {
        let settings = PresetPatch { picture: Some(Some(picture)), ..PresetPatch::default() };
        made.push(Suggestion { subject, what, because, settings });
    };
    let none = PictureSettingsPatch::default;
    let whole = findings.extent == Extent::Whole;
    if let Some(fields) = &findings.fields {
        let because = fields.words.clone();
        let when_needed = PictureSettingsPatch { fields: Some(FieldsRule::WhenNeeded), ..none() };
        let back_to_film = PictureSettingsPatch { telecine: Some(TelecineRule::WhenNeeded), ..when_needed.clone() };
        let frames = DeinterlacingPatch { frames: Some(DeinterlacedFrames::Combed), ..DeinterlacingPatch::default() };
        let combed = PictureSettingsPatch { deinterlacing: Some(frames), ..when_needed };
        let holds_film = fields.stretches.iter().any(|stretch| matches!(stretch.kind, StretchKind::Telecine { .. }));
        match fields.verdict {
            FieldsVerdict::Telecine { .. } if whole => {
                suggest(Subject::Fields, "Bring the film frames back (inverse telecine)".to_owned(), because, back_to_film)
            }
            FieldsVerdict::SoftTelecine => {
                suggest(Subject::Fields, "Keep the film frames and their rate".to_owned(), because, back_to_film);
            }
            FieldsVerdict::Mixed if whole && holds_film => {
                suggest(Subject::Fields, "Bring film frames back, deinterlace the rest".to_owned(), because, back_to_film)
            }
            FieldsVerdict::Interlaced { .. } | FieldsVerdict::Mixed | FieldsVerdict::Telecine { .. } => {
                suggest(Subject::Fields, "Deinterlace the frames that show combing".to_owned(), because, combed);
            }
            FieldsVerdict::Unknown | FieldsVerdict::Progressive => {}
        }
    }
    if let Some(bars) = findings.bars.as_ref().filter(|_| whole) {
        match bars.verdict {
            BarsVerdict::Letterbox | BarsVerdict::Pillarbox | BarsVerdict::Both | BarsVerdict::OneSided => suggest(
                Subject::Crop,
                format!("Cut the bars off, to {}×{}", bars.active.width, bars.active.height),
                bars.words.clone(),
                PictureSettingsPatch {
                    crop: Some(CropRulePatch { rule: Some(CropRuleForm::Bars), ..CropRulePatch::default() }),
                    ..none()
                },
            ),
            BarsVerdict::Changing | BarsVerdict::Unknown | BarsVerdict::None => {}
        }
    }
    if let Some(rate) = &findings.rate {
        if let Some(pictures) = rate.pictures {
            let what = format!("Leave repeated frames out, to {}", rate_text(pictures));
            suggest(
                Subject::FrameRate,
                what,
                rate.words.clone(),
                PictureSettingsPatch {
                    frame_rate: Some(FrameRateRulePatch {
                        rule: Some(FrameRateRuleForm::Constant),
                        rate: Some(pictures),
                        ..FrameRateRulePatch::default()
                    }),
                    ..none()
                },
            );
        }
        if rate.mean == Some(Rational::whole(30)) {
            suggest(
                Subject::Speed,
                "Slow down by a thousandth, to 29.97".to_owned(),
                "it runs at exactly 30 fps, which broadcast and edits at 29.97 do not".to_owned(),
                PictureSettingsPatch {
                    speed: Some(SpeedRulePatch {
                        rule: Some(SpeedRuleForm::ToRate),
                        rate: Some(Rational::constant(30_000, 1001)),
                        ..SpeedRulePatch::default()
                    }),
                    ..none()
                },
            );
        }
    }
    if let Some(look) = &findings.look {
        match look.colour {
            ColourContent::GreyWithCast { .. } => suggest(
                Subject::Colour,
                "Take the colour out".to_owned(),
                "it is black and white with a colour cast".to_owned(),
                PictureSettingsPatch { greyscale: Some(true), ..none() },
            ),
            ColourContent::Grey | ColourContent::Colour | ColourContent::Unknown => {}
        }
        if let Some((noise, degree)) = look.noise_tenths.and_then(|noise| Some((noise, Denoising::for_noise(noise)?))) {
            let because = format!(
                "noise of {}.{} code values of 8 bit takes bits and hides detail; {}",
                noise / 10,
                noise % 10,
                degree.words()
            );
            suggest(
                Subject::Cleaning,
                "Take the noise out".to_owned(),
                because,
                PictureSettingsPatch {
                    cleaning: Some(CleaningPatch { denoise: Some(degree), ..CleaningPatch::default() }),
                    ..none()
                },
            );
        }
    }
    made
}
