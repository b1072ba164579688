//! Fields and film: what is done so that whole frames come out, and at which pace.

use super::build::Journal;
use super::{FilmTiming, FramesMeant, Origin, PlanError, Step, Subject};
use crate::facts::Picture;
use crate::findings::film::film_frame_count;
use crate::findings::{Extent, FieldsFinding, FieldsVerdict, Findings, HeaderTruth, Pulldown, Stretch, StretchKind};
use crate::formats::FieldsIn;
use crate::picture::FieldOrder;
use crate::preset::{
    DeinterlaceDegree, DeinterlacePer, DeinterlacedFrames, FieldsRule, MixtureRule, PictureSettings, TelecineRule,
};
use crate::time::{Rational, rate_text};

/// How fast pictures follow one another.
#[derive(Debug, Clone, Copy)]
pub(super) struct Pace {
    /// Frames a second, the mean where they vary.
    pub(super) rate: Rational,
    pub(super) varies: bool,
    /// The rate that varying frames are made constant at.
    pub(super) nominal: Rational,
    /// How many, where it can be known.
    pub(super) frames: Option<u64>,
    /// Whether that is their exact number.
    pub(super) counted: bool,
}

/// What becomes of fields.
pub(super) struct Fields {
    pub(super) steps: Vec<Step>,
    /// Fields of the frames that come out.
    pub(super) order: FieldOrder,
    pub(super) pace: Pace,
    /// A rate that must be kept by dropping and repeating, since the frames that come out do not have it.
    pub(super) even_rate: Option<Rational>,
}

/// The lines of the output beside those of the source.
#[derive(Debug, Clone, Copy)]
pub(super) struct Lines {
    /// Whether each comes from one line of the source.
    pub(super) stay: bool,
    /// How many there are.
    pub(super) count: u32,
    /// How the profile codes fields.
    pub(super) fields: FieldsIn,
}

/// What the source is, by its findings where there are any, and by its header where there are none.
enum Material<'a> {
    Frames,
    Fields { first: FieldOrder, because: String },
    Film { pulldown: Pulldown, because: String, stretches: &'a [Stretch] },
    SoftFilm { because: String },
    Mixture { because: String, stretches: &'a [Stretch] },
}

pub(super) fn decide(
    settings: &PictureSettings,
    source: &Picture,
    findings: Option<&Findings>,
    pace: Pace,
    lines: Lines,
    journal: &mut Journal,
) -> Result<Fields, PlanError> {
    let found = findings.and_then(|findings| Some((findings, findings.fields.as_ref()?)));
    let material = material(source, found, journal);
    let untouched = |order| Fields { steps: Vec::new(), order, pace, even_rate: None };
    if settings.telecine == TelecineRule::Always
        && !matches!(material, Material::Film { .. } | Material::Mixture { .. } | Material::SoftFilm { .. })
    {
        return Err(PlanError::of_source(
            "picture.telecine",
            "inverse telecine is asked for, but no cadence is known in this source: analyse the whole of it, or set picture.telecine to when_needed",
        ));
    }
    let film_wanted = settings.telecine != TelecineRule::Never && settings.fields != FieldsRule::Keep;
    match material {
        Material::Frames if settings.fields == FieldsRule::Always => {
            let first = if source.field_order.is_interlaced() { source.field_order } else { FieldOrder::TopFirst };
            Ok(deinterlaced(settings, pace, first, "the preset asks for it, although there are no fields", false, journal))
        }
        Material::Frames => Ok(untouched(FieldOrder::Progressive)),
        Material::SoftFilm { because } if film_wanted => {
            let rate = film_rate(pace.rate);
            note(journal, "/picture/telecine", format!("film frames as they are, at {}", rate_text(rate)), because);
            let pace = Pace { rate, varies: false, counted: false, nominal: rate, ..pace };
            Ok(Fields { steps: vec![Step::EvenFilm { rate }], order: FieldOrder::Progressive, pace, even_rate: Some(rate) })
        }
        Material::SoftFilm { .. } => Ok(untouched(FieldOrder::Progressive)),
        Material::Film { pulldown, because, stretches } if film_wanted => {
            let rate = pulldown.film_rate(pace.rate);
            note(journal, "/picture/telecine", format!("inverse telecine, back to film at {}", rate_text(rate)), because);
            let steps = vec![Step::Film { stretches: stretches.to_vec(), video: pace.rate, timing: FilmTiming::Grid }];
            let pace = Pace { rate, varies: false, frames: Some(film_frame_count(stretches)), counted: false, nominal: rate };
            Ok(Fields { steps, order: FieldOrder::Progressive, pace, even_rate: Some(rate) })
        }
        Material::Mixture { because, stretches } if film_wanted && holds_film(stretches) => {
            Ok(mixture(settings, pace, stretches, because, journal))
        }
        Material::Film { because, stretches, .. } | Material::Mixture { because, stretches } => {
            let first = first_field(stretches).unwrap_or(source.field_order);
            Ok(as_video(settings, pace, first, &because, lines, journal))
        }
        Material::Fields { first, because } => Ok(as_video(settings, pace, first, &because, lines, journal)),
    }
}

fn note(journal: &mut Journal, setting: &str, what: String, because: String) {
    journal.note(Subject::Fields, setting, Origin::Source, what, because);
}

fn material<'a>(source: &Picture, found: Option<(&Findings, &'a FieldsFinding)>, journal: &mut Journal) -> Material<'a> {
    let declared = source.field_order;
    let by_header = || match declared.is_interlaced() {
        true => Material::Fields { first: declared, because: format!("the header declares fields ({})", declared.words()) },
        false => Material::Frames,
    };
    let Some((findings, fields)) = found else { return by_header() };
    let whole = findings.extent == Extent::Whole;
    let because = || {
        let first = if whole { "" } else { ", by a first look at parts of it" };
        match fields.evidence.figures.first() {
            Some(figure) => format!("{} ({figure}{first})", fields.words),
            None => format!("{}{first}", fields.words),
        }
    };
    match fields.verdict {
        FieldsVerdict::Unknown => by_header(),
        FieldsVerdict::Progressive => {
            if fields.header == HeaderTruth::FieldsDeclaredFramesFound {
                note(journal, "/picture/fields", "left as they are: whole frames".to_owned(), because());
            }
            Material::Frames
        }
        FieldsVerdict::Interlaced { first } => Material::Fields { first, because: because() },
        FieldsVerdict::SoftTelecine => Material::SoftFilm { because: because() },
        // Where the cadence breaks is known only after the whole was looked at.
        FieldsVerdict::Telecine { first, .. } if !whole => Material::Fields { first, because: because() },
        FieldsVerdict::Telecine { pulldown, .. } => Material::Film { pulldown, because: because(), stretches: &fields.stretches },
        FieldsVerdict::Mixed if whole => Material::Mixture { because: because(), stretches: &fields.stretches },
        FieldsVerdict::Mixed => {
            let first = first_field(&fields.stretches).unwrap_or(FieldOrder::TopFirst);
            Material::Fields { first, because: because() }
        }
    }
}

fn holds_film(stretches: &[Stretch]) -> bool {
    stretches.iter().any(|stretch| matches!(stretch.kind, StretchKind::Telecine { .. }))
}

fn first_field(stretches: &[Stretch]) -> Option<FieldOrder> {
    stretches.iter().find_map(|stretch| match stretch.kind {
        StretchKind::Interlaced { first } | StretchKind::Telecine { first, .. } => Some(first),
        StretchKind::Progressive => None,
    })
}

/// Frames a second of film whose frames have this mean: a standard rate where it is near one.
fn film_rate(mean: Rational) -> Rational {
    crate::time::near_standard(mean, Rational::constant(1, 100)).unwrap_or(mean)
}

/// Film and video in one source.
fn mixture(settings: &PictureSettings, pace: Pace, stretches: &[Stretch], because: String, journal: &mut Journal) -> Fields {
    let film = pace.rate * Rational::constant(4, 5);
    let (rate, varies, how) = match settings.mixture {
        MixtureRule::VideoRate => (pace.rate, false, format!("film frames repeated to {}", rate_text(pace.rate))),
        MixtureRule::FilmRate => (film, false, format!("video frames dropped to {} fps", rate_text(film))),
        MixtureRule::Variable => (pace.rate, true, "each part at its own rate".to_owned()),
    };
    note(journal, "/picture/mixture", format!("inverse telecine for film, video deinterlaced, {how}"), because);
    let first = first_field(stretches).unwrap_or(FieldOrder::TopFirst);
    let steps = vec![
        Step::Film { stretches: stretches.to_vec(), video: pace.rate, timing: FilmTiming::Own },
        Step::Deinterlace {
            order: first,
            frames: FramesMeant::Marked,
            per: DeinterlacePer::Frame,
            degree: settings.deinterlacing.degree,
        },
    ];
    let frames = pace.frames.filter(|_| settings.mixture == MixtureRule::VideoRate);
    let even_rate = (!varies).then_some(rate);
    Fields {
        steps,
        order: FieldOrder::Progressive,
        pace: Pace { rate, varies, frames, counted: false, nominal: pace.rate },
        even_rate,
    }
}

/// Fields that are kept or deinterlaced.
fn as_video(
    settings: &PictureSettings,
    pace: Pace,
    first: FieldOrder,
    because: &str,
    lines: Lines,
    journal: &mut Journal,
) -> Fields {
    match settings.fields {
        FieldsRule::Keep if lines.stay && lines.fields.holds(lines.count) => {
            note(
                journal,
                "/picture/fields",
                "fields kept and marked".to_owned(),
                format!("the preset keeps them, and the lines stay as they are; {because}"),
            );
            Fields { steps: Vec::new(), order: first, pace, even_rate: None }
        }
        FieldsRule::Keep => {
            let why = match lines.fields {
                FieldsIn::Never => format!("{} is coded in whole frames", settings.codec.words),
                FieldsIn::Multiples(of) if lines.stay => {
                    format!("fields of {} need a number of lines that {of} divides", settings.codec.words)
                }
                FieldsIn::Multiples(_) => "fields cannot be kept when the number of lines changes".to_owned(),
            };
            let because = format!("{why}; {because}");
            deinterlaced(settings, pace, first, &because, true, journal)
        }
        FieldsRule::WhenNeeded => deinterlaced(settings, pace, first, because, true, journal),
        FieldsRule::Always => deinterlaced(settings, pace, first, &format!("the preset asks for it; {because}"), true, journal),
    }
}

fn deinterlaced(
    settings: &PictureSettings,
    pace: Pace,
    first: FieldOrder,
    because: &str,
    has_fields: bool,
    journal: &mut Journal,
) -> Fields {
    let wanted = settings.deinterlacing;
    // Of frames that are whole already, those of combed ones would be none.
    let frames = if has_fields { wanted.frames } else { DeinterlacedFrames::All };
    let (which, meant) = match frames {
        DeinterlacedFrames::Combed => ("only frames that show combing", FramesMeant::Combed),
        DeinterlacedFrames::All => ("every frame", FramesMeant::All),
    };
    let (per, factor) = match wanted.per {
        DeinterlacePer::Frame => ("one frame for each", 1),
        DeinterlacePer::Field => ("one frame for each field", 2),
    };
    let cost = match wanted.degree {
        DeinterlaceDegree::Proxy => "the quick way",
        DeinterlaceDegree::Delivery => "along edges and with what stands still, at about twice the time of the quick way",
    };
    note(journal, "/picture/deinterlacing", format!("deinterlaced: {which}, {per}, {cost}"), because.to_owned());
    // Frames of fields that came through untouched stand for both of theirs.
    let even_rate =
        (wanted.per == DeinterlacePer::Field && meant == FramesMeant::Combed).then_some(pace.rate * Rational::whole(factor));
    Fields {
        steps: vec![Step::Deinterlace { order: first, frames: meant, per: wanted.per, degree: wanted.degree }],
        order: FieldOrder::Progressive,
        pace: Pace {
            rate: pace.rate * Rational::whole(factor),
            varies: pace.varies,
            nominal: pace.nominal * Rational::whole(factor),
            frames: pace.frames.map(|frames| frames * u64::try_from(factor).unwrap_or(1)),
            counted: pace.counted && factor == 1,
        },
        even_rate,
    }
}
