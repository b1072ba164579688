//! What follows from findings: mendings that an editor may take with one click, each a patch on the
//! settings of the source. Nothing is done by itself; where the editor has settings of his own for
//! the same thing, they stay until the suggestion is taken.

use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use utoipa::ToSchema;

use crate::findings::{BarsVerdict, ColourContent, Extent, FieldsVerdict, Findings, StretchKind};
use crate::plan::Subject;
use crate::preset::Denoising;
use crate::time::{Rational, rate_text};

/// A mending that follows from findings.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Suggestion {
    /// What it is about.
    pub subject: Subject,
    /// What would be done.
    pub what: String,
    /// Why.
    pub because: String,
    /// The settings that do it, a merge patch (RFC 7386) on a preset.
    #[schema(value_type = Object)]
    pub settings: Value,
}

/// What findings suggest.
#[must_use]
pub fn suggestions(findings: &Findings) -> Vec<Suggestion> {
    let mut made = Vec::new();
    let mut suggest = |subject, what: String, because: String, picture: Value| {
        made.push(Suggestion { subject, what, because, settings: json!({ "picture": picture }) });
    };
    let whole = findings.extent == Extent::Whole;
    if let Some(fields) = &findings.fields {
        let because = fields.words.clone();
        let back_to_film = json!({ "fields": "when_needed", "telecine": "when_needed" });
        let combed = json!({ "fields": "when_needed", "deinterlacing": { "frames": "combed" } });
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
                json!({ "crop": { "rule": "bars" } }),
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
                json!({ "frame_rate": { "rule": "constant", "rate": pictures } }),
            );
        }
        if rate.mean == Some(Rational::whole(30)) {
            suggest(
                Subject::Speed,
                "Slow down by a thousandth, to 29.97".to_owned(),
                "it runs at exactly 30 frames a second, which broadcast and edits at 29.97 do not".to_owned(),
                json!({ "speed": { "rule": "to_rate", "rate": "30000/1001" } }),
            );
        }
    }
    if let Some(look) = &findings.look {
        match look.colour {
            ColourContent::GreyWithCast { .. } => suggest(
                Subject::Colour,
                "Take the colour out".to_owned(),
                "it is black and white with a colour cast".to_owned(),
                json!({ "greyscale": true }),
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
            suggest(Subject::Cleaning, "Take the noise out".to_owned(), because, json!({ "cleaning": { "denoise": degree } }));
        }
    }
    made
}
