//! The picture's part of the plan.

use super::build::Journal;
use super::{FrameRatePlan, Origin, PicturePlan, PlanError, Step, Subject};
use crate::geometry::{Frame, sizing};
use crate::level;
use crate::preset::{FieldsRule, FrameRateRule, PictureCodec, PictureSettings, Profile, RateControl, SizeRule};
use crate::rational::Rational;
use crate::reading::{Colour, FieldOrder, Picture, Reading, Stream};
use crate::units::rate_text;

pub(super) fn plan(
    settings: &PictureSettings,
    stream: &Stream,
    source: &Picture,
    reading: &Reading,
    journal: &mut Journal<'_>,
) -> Result<PicturePlan, PlanError> {
    let profile = settings.profile.unwrap_or(settings.codec.usual_profile());
    journal.note(
        Subject::Codec,
        "/picture/codec",
        Origin::Preset,
        format!("{} {}", settings.codec.words(), profile.words()),
        "the preset asks for it",
    );
    journal.note(Subject::Rate, "/picture/rate", Origin::Preset, rate_words(settings.rate), rate_reason(settings.rate));
    let deinterlace = decide_fields(settings, source, journal);
    let field_order =
        if deinterlace || !source.field_order.is_interlaced() { FieldOrder::Progressive } else { source.field_order };
    let turned = matches!(source.rotation.rem_euclid(360), 90 | 270);
    let upright = Frame { width: source.width, height: source.height, pixel_aspect: source.pixel_aspect };
    let upright = if turned { upright.turned() } else { upright };
    let size = sizing(upright, settings.size, settings.pixel_aspect);
    journal.note(
        Subject::Size,
        "/picture/size",
        Origin::Preset,
        format!("{}×{}", size.frame.width, size.frame.height),
        size.because.clone(),
    );
    let frame_rate = decide_frame_rate(settings, source, journal);
    let pixel_format = pixel_format(settings.codec, profile, &source.pixel_format);
    let colour = decide_colour(source, journal);
    if let Some(asked) = settings.level
        && !level::allows(settings.codec, asked, size.frame.width, size.frame.height, frame_rate.rate())
    {
        return Err(PlanError::Impossible(format!(
            "{}×{} at {} frames a second is more than level {asked} of {} may have: raise the level, or lower the size or the rate",
            size.frame.width,
            size.frame.height,
            rate_text(frame_rate.rate()),
            settings.codec.words()
        )));
    }
    if settings.codec == PictureCodec::Mpeg2 && !level::mpeg2_has_rate(frame_rate.rate()) {
        return Err(PlanError::Impossible(format!(
            "MPEG-2 has no frame rate of {}: set picture.frame_rate to a constant rate such as 25",
            rate_text(frame_rate.rate())
        )));
    }
    let largest = crate::preset::LARGEST_SIDE;
    if size.frame.width > largest || size.frame.height > largest || size.frame.width < 16 || size.frame.height < 16 {
        return Err(PlanError::Impossible(format!(
            "{}×{} cannot be encoded: each side must have 16 to {largest} pixels; set picture.size",
            size.frame.width, size.frame.height
        )));
    }

    let mut steps = Vec::new();
    if deinterlace {
        let order = if source.field_order.is_interlaced() { source.field_order } else { FieldOrder::TopFirst };
        steps.push(Step::Deinterlace { order });
    }
    let degrees = u16::try_from(source.rotation.rem_euclid(360)).unwrap_or(0);
    if degrees != 0 {
        journal.note(
            Subject::Rotation,
            "",
            Origin::Source,
            format!("turned upright by {degrees}°"),
            "the source is marked as stored turned",
        );
        steps.push(Step::Turn { degrees });
    }
    steps.extend(size.crop.map(Step::from));
    if let FrameRatePlan::Constant { rate } = frame_rate {
        steps.push(Step::ConstantRate { rate });
    }
    let after_crop = size.crop.map_or((upright.width, upright.height), |part| (part.width, part.height));
    let rgb = is_rgb(&source.pixel_format);
    let full_range = !rgb && (source.colour.range.as_deref() == Some("pc") || source.pixel_format.starts_with("yuvj"));
    if after_crop != size.scaled || source.pixel_format != pixel_format || full_range {
        steps.push(Step::Scale {
            width: size.scaled.0,
            height: size.scaled.1,
            pixel_format: pixel_format.clone(),
            fields_apart: field_order.is_interlaced(),
            to_matrix: rgb.then(|| "bt709".to_owned()),
            to_range: (rgb || full_range).then(|| "tv".to_owned()),
        });
    }
    if let Some(pad) = size.pad {
        steps.push(Step::Pad { width: pad.width, height: pad.height, x: pad.x, y: pad.y });
    }
    let key_interval = (settings.key_interval * frame_rate.rate()).round().max(1);
    Ok(PicturePlan {
        source_stream: stream.index,
        codec: settings.codec,
        profile,
        level: settings.level,
        pixel_format,
        rate: settings.rate,
        effort: settings.effort,
        key_interval_frames: u32::try_from(key_interval).unwrap_or(u32::MAX),
        width: size.frame.width,
        height: size.frame.height,
        pixel_aspect: size.frame.pixel_aspect,
        duration: stream.duration.or(reading.duration),
        frames: frame_count(frame_rate, source, stream, reading),
        frame_rate,
        field_order,
        colour,
        hdr: source.hdr.clone(),
        steps,
    })
}

fn frame_count(rate: FrameRatePlan, source: &Picture, stream: &Stream, reading: &Reading) -> Option<u64> {
    match rate {
        FrameRatePlan::Constant { rate } if source.varies || source.frame_rate != Some(rate) => {
            let duration = stream.duration.or(reading.duration)?;
            u64::try_from((duration * rate).round()).ok()
        }
        FrameRatePlan::Constant { rate } => {
            let by_duration = || u64::try_from((stream.duration.or(reading.duration)? * rate).round()).ok();
            source.frames.or_else(by_duration)
        }
        FrameRatePlan::Variable { .. } => source.frames,
    }
}

fn rate_words(rate: RateControl) -> String {
    match rate {
        RateControl::ConstantQuality { crf } => format!("constant quality, CRF {crf}"),
        RateControl::Average { bits_per_second, passes: 2 } => format!("{bits_per_second} on average, two passes"),
        RateControl::Average { bits_per_second, .. } => format!("{bits_per_second} on average, one pass"),
        RateControl::Constant { bits_per_second } => format!("{bits_per_second} at every moment"),
        RateControl::ByProfile => "as the profile asks for".to_owned(),
    }
}

const fn rate_reason(rate: RateControl) -> &'static str {
    match rate {
        RateControl::ConstantQuality { .. } => "the look matters more than the size",
        RateControl::Average { passes: 2, .. } => "the first pass finds where the bits are needed",
        RateControl::Average { .. } => "the size matters, and time",
        RateControl::Constant { .. } => "the receiver wants an even stream",
        RateControl::ByProfile => "each profile has its own rate",
    }
}

/// Whether the picture is deinterlaced.
fn decide_fields(settings: &PictureSettings, source: &Picture, journal: &mut Journal<'_>) -> bool {
    let declared = source.field_order.is_interlaced();
    let lines_kept = settings.size == SizeRule::Same;
    let (deinterlace, what, because) = match (settings.fields, declared) {
        (FieldsRule::Always, true) => (true, "deinterlaced, one frame for each frame", "the preset asks for it"),
        (FieldsRule::Always, false) => {
            (true, "deinterlaced, one frame for each frame", "the preset asks for it, although the header declares no fields")
        }
        (FieldsRule::WhenNeeded, true) => (true, "deinterlaced, one frame for each frame", "the header declares fields"),
        (FieldsRule::Keep, true) if lines_kept => {
            (false, "fields kept and marked", "the preset keeps them, and the lines stay as they are")
        }
        (FieldsRule::Keep, true) => {
            (true, "deinterlaced, one frame for each frame", "fields cannot be kept when the number of lines changes")
        }
        (FieldsRule::WhenNeeded | FieldsRule::Keep, false) => return false,
    };
    let because = if declared { format!("{because} ({})", source.field_order.words()) } else { because.to_owned() };
    journal.note(Subject::Fields, "/picture/fields", Origin::Source, what, because);
    deinterlace
}

fn decide_frame_rate(settings: &PictureSettings, source: &Picture, journal: &mut Journal<'_>) -> FrameRatePlan {
    let mean = source.frame_rate.unwrap_or(Rational::whole(25));
    let nominal = nominal_rate(mean);
    let same = |journal: &mut Journal<'_>| {
        if source.varies {
            journal.note(
                Subject::FrameRate,
                "/picture/frame_rate",
                Origin::Source,
                format!("{} constant, frames repeated or dropped as needed", rate_text(nominal)),
                format!("the source varies around {} and a constant rate is wanted", rate_text(mean)),
            );
            FrameRatePlan::Constant { rate: nominal }
        } else {
            journal.note(
                Subject::FrameRate,
                "/picture/frame_rate",
                Origin::Source,
                format!("{} constant", rate_text(mean)),
                "the source has it",
            );
            FrameRatePlan::Constant { rate: mean }
        }
    };
    match settings.frame_rate {
        FrameRateRule::Same => same(journal),
        FrameRateRule::KeepVariable if source.varies => {
            journal.note(
                Subject::FrameRate,
                "/picture/frame_rate",
                Origin::Source,
                "variable, every frame keeps its time",
                format!("the source varies around {}", rate_text(mean)),
            );
            FrameRatePlan::Variable { mean }
        }
        FrameRateRule::KeepVariable => same(journal),
        FrameRateRule::Constant { rate } => {
            let because = if source.frame_rate == Some(rate) && !source.varies {
                "the preset asks for it, and the source has it".to_owned()
            } else {
                format!("the preset asks for it; frames are repeated or dropped (the source has {})", rate_text(mean))
            };
            journal.note(
                Subject::FrameRate,
                "/picture/frame_rate",
                Origin::Preset,
                format!("{} constant", rate_text(rate)),
                because,
            );
            FrameRatePlan::Constant { rate }
        }
        FrameRateRule::AtMost { rate } => {
            let natural = if source.varies { nominal } else { mean };
            if natural <= rate {
                return same(journal);
            }
            // An even fraction of the source keeps motion regular: 25 at most 12 gives 25/2 only where that fits.
            let every = natural.divided_by(rate).map_or(1, Rational::ceil).max(1);
            let lowered = natural.divided_by(Rational::whole(every)).unwrap_or(rate);
            journal.note(
                Subject::FrameRate,
                "/picture/frame_rate",
                Origin::Preset,
                format!("{} constant, every {} frame kept", rate_text(lowered), ordinal(every)),
                format!("the source has {} and the preset allows {} at most", rate_text(natural), rate_text(rate)),
            );
            FrameRatePlan::Constant { rate: lowered }
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

/// The standard rate that material varying around `mean` is made constant at: the nearest one that
/// is not below it by more than a hundredth, and 60 at most.
#[must_use]
pub(crate) fn nominal_rate(mean: Rational) -> Rational {
    const STANDARD: [Rational; 12] = [
        Rational::whole(5),
        Rational::whole(10),
        Rational::whole(12),
        Rational::whole(15),
        Rational::constant(24_000, 1001),
        Rational::whole(24),
        Rational::whole(25),
        Rational::constant(30_000, 1001),
        Rational::whole(30),
        Rational::whole(50),
        Rational::constant(60_000, 1001),
        Rational::whole(60),
    ];
    let floor = mean * Rational::constant(995, 1000);
    STANDARD.into_iter().find(|rate| *rate >= floor).unwrap_or(Rational::whole(60))
}

fn decide_colour(source: &Picture, journal: &mut Journal<'_>) -> Colour {
    let mut colour = source.colour.clone();
    if is_rgb(&source.pixel_format) {
        colour = Colour {
            primaries: colour.primaries.or(Some("bt709".to_owned())),
            transfer: colour.transfer.or(Some("bt709".to_owned())),
            matrix: Some("bt709".to_owned()),
            range: Some("tv".to_owned()),
            chroma_location: None,
        };
        journal.note(
            Subject::Colour,
            "",
            Origin::Source,
            "RGB converted with the matrix of BT.709, limited range",
            "the output stores luma and chroma",
        );
        return colour;
    }
    if colour.range.as_deref() == Some("pc") || source.pixel_format.starts_with("yuvj") {
        journal.note(
            Subject::Colour,
            "",
            Origin::Source,
            "full range converted to limited",
            "players and broadcasters expect limited range",
        );
        colour.range = Some("tv".to_owned());
    } else if colour.primaries.is_some() || colour.transfer.is_some() || colour.matrix.is_some() {
        let named = |part: &Option<String>| part.clone().unwrap_or_else(|| "not declared".to_owned());
        let what =
            format!("tags carried: {} / {} / {}", named(&colour.primaries), named(&colour.transfer), named(&colour.matrix));
        journal.note(Subject::Colour, "", Origin::Source, what, "the source declares them");
    }
    colour
}

fn is_rgb(pixel_format: &str) -> bool {
    ["rgb", "bgr", "gbr", "argb", "abgr", "0rgb", "0bgr", "pal8", "x2rgb"].iter().any(|prefix| pixel_format.starts_with(prefix))
}

fn has_alpha(pixel_format: &str) -> bool {
    ["yuva", "rgba", "bgra", "argb", "abgr", "gbrap", "ya"].iter().any(|prefix| pixel_format.starts_with(prefix))
}

fn pixel_format(codec: PictureCodec, profile: Profile, source: &str) -> String {
    let name = match (codec, profile) {
        (PictureCodec::Prores, Profile::P4444 | Profile::P4444Xq) if has_alpha(source) => "yuva444p10le",
        (PictureCodec::Prores, Profile::P4444 | Profile::P4444Xq) => "yuv444p10le",
        (PictureCodec::Prores, _) => "yuv422p10le",
        (PictureCodec::H264, Profile::High10) | (PictureCodec::Hevc, Profile::Main10) => "yuv420p10le",
        (PictureCodec::H264, Profile::High422) | (PictureCodec::Hevc, Profile::Main42210) => "yuv422p10le",
        (PictureCodec::Mpeg2, Profile::Mpeg2422) => "yuv422p",
        (PictureCodec::H264 | PictureCodec::Hevc | PictureCodec::Mpeg2, _) => "yuv420p",
    };
    name.to_owned()
}
