//! The picture's part of the plan.

use super::build::Journal;
use super::crop::Upright;
use super::fields::{Fields, Pace};
use super::way::{Way, is_full};
use super::{FrameRatePlan, Origin as DecidedBy, PicturePlan, PlanError, Step, Subject, colour, crop, fields, overlays, pace};
use crate::facts::{Picture, Stream};
use crate::findings::{Extent, RateVerdict};
use crate::formats::level::Peak;
use crate::formats::{Container, FullRange, Groups, PictureCodec, PictureFormat, RateControl};
use crate::picture::{ChromaSite, Frame, Orientation, PixelFormat, Primaries, Rectangle, Samples};
use crate::plan::sizing::{Sizing, sizing};
use crate::preset::{
    Adjustment, ColourSettings, Deblocking, Denoising, LARGEST_SIDE, Overlays, PictureSettings, PresetError, RangeRule,
    RateConversion, SMALLEST_SIDE,
};
use crate::reading::Reading;
use crate::time::{Rational, Span, nominal_rate, rate_text};
use crate::timeline::Origin;
use crate::units::BitRate;

/// What of a source an output takes.
#[derive(Clone, Copy)]
pub(super) struct Taken<'a> {
    /// What is known of what is taken.
    pub(super) reading: &'a Reading,
    /// What is known of all of the source.
    pub(super) whole: &'a Reading,
    pub(super) parts: &'a [Span],
    pub(super) nought: Origin,
    pub(super) container: Container,
}

/// What is decided of a picture before its steps.
struct Decided<'a> {
    settings: &'a PictureSettings,
    source: &'a Picture,
    seen: Upright,
    /// What is kept of it, where something is cut off.
    cut: Option<Rectangle>,
    size: Sizing,
    fields: Fields,
    speed: Rational,
    pace: Pace,
    frame_rate: FrameRatePlan,
    conversion: RateConversion,
}

/// The picture's plan, and by what factor the output plays faster than the source.
pub(super) fn plan(
    settings: &PictureSettings,
    stream: &Stream,
    source: &Picture,
    taken: Taken<'_>,
    journal: &mut Journal,
) -> Result<(PicturePlan, Rational), PlanError> {
    let Taken { reading, whole, nought, .. } = taken;
    let asked = settings.format().map_err(PresetError::Impossible)?;
    journal.note(Subject::Codec, "/picture/codec", DecidedBy::Preset, asked.words(), "the preset asks for it");
    let decided = decide(settings, asked, (stream, source), reading, journal)?;
    let Decided { speed, frame_rate, pace, .. } = decided;
    // What stands before the first picture belongs to it.
    let lead = if nought.lead_frames > 0 { whole.facts.zero() - nought.at } else { Rational::ZERO };
    let duration = stream.duration.or(reading.facts.duration).and_then(|duration| (duration + lead).divided_by(speed));
    let lead = lead.divided_by(speed).unwrap_or(lead);
    let format = decide_passes(asked, duration, journal);
    let pixel_format = decided.pixel_format(format, journal);
    can_be_coded(format, decided.size.frame, frame_rate.rate())?;
    let peak = peak(format, journal);
    let field_order = decided.fields.order;
    let (width, height, pixel_aspect) = (decided.size.frame.width, decided.size.frame.height, decided.size.frame.pixel_aspect);
    let Stepped { steps, pixel_format, coloured } = decided.steps(format, pixel_format, taken, journal)?;
    let (frames, frames_are_counted) = frame_count(frame_rate, pace, lead, duration);
    let least = match format.codec().groups {
        Groups::Long { least } => least.into(),
        Groups::Intra => 1,
    };
    let key_interval = (settings.key_interval * frame_rate.rate()).round().max(least);
    let plan = PicturePlan {
        source_size: Some((source.width, source.height)),
        source_stream: stream.index,
        format,
        pixel_format,
        peak,
        key_interval_frames: u32::try_from(key_interval).unwrap_or(u32::MAX),
        width,
        height,
        pixel_aspect,
        frames,
        frames_are_counted,
        duration,
        frame_rate,
        field_order,
        colour: coloured.colour,
        hdr: coloured.hdr,
        lead: settings.lead,
        steps,
    };
    Ok((plan, speed))
}

/// Place, size, fields and pace.
fn decide<'a>(
    settings: &'a PictureSettings,
    asked: PictureFormat,
    (stream, source): (&Stream, &'a Picture),
    reading: &Reading,
    journal: &mut Journal,
) -> Result<Decided<'a>, PlanError> {
    let findings = reading.findings.as_ref();
    let seen = Upright::of(source, settings.pixel_aspect);
    if crop::is_impossible(source) {
        let because = format!(
            "a pixel aspect of {}, as the source declares it, would leave less than one line or column",
            source.pixel_aspect
        );
        journal.note(Subject::Size, "", DecidedBy::Source, "pixels taken for square", because);
    }
    let cut = crop::decide(settings.crop, seen, findings, journal)?;
    let cut_frame = cut.map_or(seen.frame, |part| Frame { width: part.width, height: part.height, ..seen.frame });
    let size = sizing(cut_frame, settings.size, settings.pixel_aspect);
    let lines = fields::Lines {
        stay: seen.orientation.is_upright() && size.frame.height == source.height && size.scaled.1 == source.height,
        count: size.frame.height,
        fields: asked.profile().fields,
    };
    let fields = fields::decide(settings, source, findings, source_pace(source, stream, reading), lines, journal)?;
    let (speed, pace) = pace::decide_speed(settings, fields.pace, journal);
    let what = format!("{}×{}", size.frame.width, size.frame.height);
    journal.note(Subject::Size, "/picture/size", DecidedBy::Preset, what, size.because.clone());
    let (frame_rate, conversion) = pace::decide_rate(settings, pace, journal);
    Ok(Decided { settings, source, seen, cut, size, fields, speed, pace, frame_rate, conversion })
}

/// Refuses frames of a size and rate that the codec, or the level that is asked for, does not have.
fn can_be_coded(format: PictureFormat, frame: Frame, rate: Rational) -> Result<(), PlanError> {
    let codec = format.codec();
    let (size, fps) = (format!("{}×{}", frame.width, frame.height), rate_text(rate));
    let sides = [frame.width, frame.height];
    let too_much = format.level().filter(|level| !codec.levels.allows(*level, frame.width, frame.height, rate));
    let unsayable = codec.unsayable_sides.filter(|of| sides.iter().any(|side| side.is_multiple_of(*of)));
    let refusal = if let Some(level) = too_much {
        let words = format!(
            "{size} at {fps} fps is more than level {level} of {} may have: raise the level, or lower the size or the rate",
            codec.words
        );
        ("picture.level", words)
    } else if !codec.frame_rates.has(rate) {
        let words = format!("{} has no frame rate of {fps}: set picture.frame_rate to a constant rate such as 25", codec.words);
        ("picture.frame_rate", words)
    } else if let Some(of) = unsayable {
        let words = format!("{} cannot say {size}: a side may not be a multiple of {of}; set picture.size", codec.words);
        ("picture.size", words)
    } else if sides.iter().any(|side| !(SMALLEST_SIDE..=LARGEST_SIDE).contains(side)) {
        let words =
            format!("{size} cannot be encoded: each side must have {SMALLEST_SIDE} to {LARGEST_SIDE} pixels; set picture.size");
        ("picture.size", words)
    } else {
        return Ok(());
    };
    Err(PlanError::of_source(refusal.0, refusal.1))
}

/// The steps of a picture, and what comes out of them.
struct Stepped {
    steps: Vec<Step>,
    pixel_format: PixelFormat,
    coloured: colour::Coloured,
}

impl Decided<'_> {
    /// The pixel format of the output; says what it stores less of.
    fn pixel_format(&self, format: PictureFormat, journal: &mut Journal) -> PixelFormat {
        let whole = (self.seen.frame.width, self.seen.frame.height);
        let after_crop = self.size.crop.or(self.cut).map_or(whole, |part| (part.width, part.height));
        let stays_as_stored = after_crop == self.size.scaled && self.fields.steps.is_empty() && changes_no_sample(self.settings);
        let pixel_format = format.profile().stores.pixel_format(&self.source.pixel_format, stays_as_stored);
        let lost = self.source.pixel_format.form().lost_in(pixel_format.form());
        if !lost.is_empty() {
            let because = format!("{} stores no more", format.words());
            journal.note(Subject::Colour, "/picture/profile", DecidedBy::Preset, lost.join(", "), because);
        }
        pixel_format
    }

    /// All steps in their order, for the reasons that [`Step`] gives.
    fn steps(
        mut self,
        format: PictureFormat,
        pixel_format: PixelFormat,
        taken: Taken<'_>,
        journal: &mut Journal,
    ) -> Result<Stepped, PlanError> {
        let settings = self.settings;
        let mut way = Way::of(self.source);
        way.has_fields(self.fields.order);
        std::mem::take(&mut self.fields.steps).into_iter().for_each(|step| way.add(step));
        let mixing = self.place_and_pace(&mut way, journal)?;
        let pixel_format = match alpha_lost_to(settings, mixing.is_some()) {
            Some(words) if self.source.pixel_format.form().has_alpha() => {
                leave_alpha_out(&mut way, &pixel_format, words, journal)?
            }
            Some(_) | None => pixel_format,
        };
        clean(settings, &mut way, journal)?;
        let range = decide_range(settings, self.source, taken.container, journal);
        let colour = ColourSettings { range, ..settings.colour.clone() };
        let mut coloured = colour::decide(&colour, self.source, pixel_format.form(), &mut way, journal)?;
        limit_to_codec(format.codec(), &mut coloured, journal);
        adjust(settings, &coloured.samples, &mut way, journal)?;
        if let Some(step) = mixing {
            self.mix(step, &coloured.samples, &mut way, journal)?;
        }
        way.bring(coloured.samples.clone(), self.size.scaled)?;
        if let Some(pad) = self.size.pad {
            let full_range = coloured.samples.space.full_range;
            way.add(Step::Pad { width: pad.width, height: pad.height, x: pad.x, y: pad.y, full_range });
        }
        let onto = ((self.size.frame.width, self.size.frame.height), &coloured.samples);
        let laid_over = overlays::steps(&settings.overlays, onto, self.speed, taken.parts, &taken.whole.facts, journal);
        laid_over.into_iter().for_each(|step| way.add(step));
        if settings.greyscale {
            let because = "casts and coloured scratches vanish, and the bits go to the picture";
            journal.note(Subject::Colour, "/picture/greyscale", DecidedBy::Preset, "black and white", because);
            way.add(Step::Grey);
        }
        Ok(Stepped { steps: way.end(&pixel_format), pixel_format, coloured })
    }

    /// Speed, turning, cropping and the frame rate; a rate for which frames are mixed comes back, as it is worked off
    /// behind scaling.
    fn place_and_pace(&self, way: &mut Way, journal: &mut Journal) -> Result<Option<Step>, PlanError> {
        if self.speed != Rational::ONE {
            way.add(Step::Speed { factor: self.speed });
        }
        let orientation = self.seen.orientation;
        if !orientation.is_upright() {
            let what = format!("brought upright: {}", orientation.words());
            journal.note(Subject::Rotation, "", DecidedBy::Source, what, "the source is marked as stored otherwise");
            turn(way, orientation)?;
        }
        let kept = match (self.cut, self.size.crop) {
            (Some(cut), Some(inner)) => Some(Rectangle { x: cut.x + inner.x, y: cut.y + inner.y, ..inner }),
            (cut, inner) => cut.or(inner),
        };
        if let Some(kept) = kept {
            way.store_as(way.samples.form().parted_at(kept))?;
            way.add(kept.into());
        }
        let FrameRatePlan::Constant { rate } = self.frame_rate else { return Ok(None) };
        let step = Step::ConstantRate { rate, by: self.conversion };
        if self.conversion == RateConversion::DropRepeat {
            way.add(step);
            return Ok(None);
        }
        // Frames that came at times of their own are brought to their rate before any are mixed.
        if let Some(rate) = self.fields.even_rate {
            way.add(Step::ConstantRate { rate: rate * self.speed, by: RateConversion::DropRepeat });
        }
        Ok(Some(step))
    }

    /// Frames are mixed in up to 12 bits, and drawn anew in 8.
    fn mix(&self, step: Step, output: &Samples, way: &mut Way, journal: &mut Journal) -> Result<(), PlanError> {
        let is_drawn_anew = self.conversion == RateConversion::Motion;
        let deepest = if is_drawn_anew { 8 } else { 12 };
        let form = output.form();
        if is_drawn_anew && form.depth > deepest {
            let because = "motion-compensated frames have no more";
            journal.note(Subject::FrameRate, "/picture/frame_rate/by", DecidedBy::Preset, "8 bits of a sample", because);
        }
        let mixed = if form.is_rgb() { form.in_full_colour() } else { form }.with_depth(form.depth.min(deepest));
        let space = output.space.in_luma_and_chroma();
        way.bring(Samples { pixel_format: mixed.planar(), space, ..output.clone() }, self.size.scaled)?;
        way.add(step);
        Ok(())
    }
}

/// What the codec has one place for, or none.
fn limit_to_codec(codec: PictureCodec, coloured: &mut colour::Coloured, journal: &mut Journal) {
    if let Some(only) = codec.chroma {
        coloured.samples.chroma = only;
        coloured.colour.chroma_location = coloured.colour.chroma_location.map(|_| only);
    }
    let unknown = |primaries: &mut Primaries| codec.unknown_primaries.contains(primaries);
    if let Some(primaries) = coloured.colour.primaries.take_if(unknown) {
        let because = format!("the encoder of {} does not know {primaries}", codec.words);
        journal.note(Subject::Colour, "", DecidedBy::Source, "primaries not declared", because);
    }
}

fn source_pace(source: &Picture, stream: &Stream, reading: &Reading) -> Pace {
    // What decoding all of it showed stands above what a header declares.
    let found =
        reading.findings.as_ref().filter(|findings| findings.extent == Extent::Whole).and_then(|findings| findings.rate.as_ref());
    let found =
        found.filter(|found| found.verdict == RateVerdict::OtherThanDeclared && !source.varies).and_then(|found| found.mean);
    let rate = found.or(source.frame_rate).unwrap_or(Rational::whole(25));
    let by_duration = || {
        let duration = stream.duration.or(reading.facts.duration).filter(|_| !source.varies)?;
        u64::try_from((duration * rate).round()).ok()
    };
    let counted = source.frames_are_counted && source.frames.is_some();
    Pace {
        rate,
        varies: source.varies,
        frames: source.frames.or_else(by_duration),
        counted,
        nominal: source.dominant_rate.unwrap_or_else(|| nominal_rate(rate)),
    }
}

/// How many frames come out, `lead` of them before the source's first; and whether that is exact.
fn frame_count(rate: FrameRatePlan, pace: Pace, lead: Rational, duration: Option<Rational>) -> (Option<u64>, bool) {
    match rate {
        FrameRatePlan::Constant { rate } if pace.varies || pace.rate != rate => {
            (duration.and_then(|duration| u64::try_from((duration * rate).round()).ok()), false)
        }
        FrameRatePlan::Constant { rate } => {
            let lead = u64::try_from((lead * rate).round()).unwrap_or(0);
            (pace.frames.map(|frames| frames + lead), pace.counted && !pace.varies)
        }
        // A first frame that is held stands twice.
        FrameRatePlan::Variable { .. } => (pace.frames.map(|frames| frames + u64::from(lead.is_positive())), false),
    }
}

fn clean(settings: &PictureSettings, way: &mut Way, journal: &mut Journal) -> Result<(), PlanError> {
    let cleaning = settings.cleaning;
    if cleaning.deblock != Deblocking::Off {
        let words = cleaning.deblock.words();
        journal.note(Subject::Cleaning, "/picture/cleaning/deblock", DecidedBy::Preset, words, "the preset asks for it");
        way.finely()?;
        way.add(Step::Deblock { degree: cleaning.deblock });
    }
    if cleaning.denoise != Denoising::Off {
        let words = cleaning.denoise.words();
        journal.note(Subject::Cleaning, "/picture/cleaning/denoise", DecidedBy::Preset, words, "the preset asks for it");
        way.finely()?;
        way.add(Step::Denoise { degree: cleaning.denoise });
    }
    Ok(())
}

/// The range that is wanted, as far as the codec has a place to say it in its stream or the container beside it.
fn decide_range(settings: &PictureSettings, source: &Picture, container: Container, journal: &mut Journal) -> RangeRule {
    let asked = settings.colour.range;
    let codec = settings.codec;
    let says_full = match codec.full_range {
        FullRange::In(containers) => containers.contains(&container),
        FullRange::Never => false,
    };
    let is_full = asked == RangeRule::Full || asked == RangeRule::Same && is_full(&source.pixel_format, &source.colour);
    if says_full || !is_full {
        return asked;
    }
    let because = format!("{} in {} has no place to say that it is full", codec.words, container.words());
    journal.note(Subject::Colour, "/picture/colour/range", DecidedBy::Preset, "limited range", because);
    RangeRule::Limited
}

/// What of what is asked for knows no alpha, in words.
fn alpha_lost_to(settings: &PictureSettings, mixes: bool) -> Option<&'static str> {
    match settings.cleaning.denoise {
        Denoising::Off => mixes.then_some("frames are blended"),
        Denoising::Camera | Denoising::Tape | Denoising::Night => Some("the picture is denoised"),
    }
}

/// Leaves alpha out from here on; the pixel format of the output follows.
fn leave_alpha_out(
    way: &mut Way,
    pixel_format: &PixelFormat,
    because: &str,
    journal: &mut Journal,
) -> Result<PixelFormat, PlanError> {
    let form = pixel_format.form();
    if form.has_alpha() {
        let because = format!("a step does not keep it: {because}");
        journal.note(Subject::Colour, "", DecidedBy::Preset, "alpha is left out", because);
    }
    way.store_as(way.samples.form().opaque())?;
    // What is stored as packed colours stays so.
    Ok(if *pixel_format == "bgra" { PixelFormat::named("bgr0") } else { form.opaque().planar() })
}

/// Turns pictures upright. Those that share colour otherwise across than down get a sample of it for every pixel first.
fn turn(way: &mut Way, orientation: Orientation) -> Result<(), PlanError> {
    let form = way.samples.form();
    let sideways = matches!(orientation.degrees, 90 | 270);
    if sideways && form.shared().is_some_and(|(columns, lines)| columns != lines) {
        way.store_as(form.in_full_colour())?;
    } else if form.shared().is_some_and(|(columns, lines)| columns > 1 || lines > 1) {
        // Colour that lies at one of two pixels would lie at the other when it is turned.
        let centred = Samples { chroma: ChromaSite::Center.within(form), ..way.samples.clone() };
        way.bring(centred, way.size)?;
    }
    if orientation.mirrored {
        way.add(Step::Mirror);
    }
    if orientation.degrees != 0 {
        way.add(Step::Turn { degrees: orientation.degrees });
    }
    Ok(())
}

/// Whether nothing is asked for that needs luma and chroma, or gives other samples.
fn changes_no_sample(settings: &PictureSettings) -> bool {
    settings.adjustment == Adjustment::default()
        && settings.colour == ColourSettings { range: settings.colour.range, ..ColourSettings::default() }
        && settings.cleaning.deblock == Deblocking::Off
        && settings.cleaning.denoise == Denoising::Off
        && settings.overlays == Overlays::default()
        && !settings.greyscale
}

/// Levels are changed in fine steps of the output's luma and chroma; where it stores red, green and blue, by the matrix of
/// BT.709.
fn adjust(settings: &PictureSettings, output: &Samples, way: &mut Way, journal: &mut Journal) -> Result<(), PlanError> {
    let adjustment = settings.adjustment;
    if adjustment == Adjustment::default() {
        return Ok(());
    }
    let what = format!(
        "brightness {:+}, contrast {} %, gamma {} %, saturation {} %",
        adjustment.brightness, adjustment.contrast, adjustment.gamma, adjustment.saturation
    );
    journal.note(Subject::Colour, "/picture/adjustment", DecidedBy::Preset, what, "the preset asks for it");
    way.as_luma_and_chroma(&output.space.in_luma_and_chroma())?;
    let finer = 1 << (way.samples.form().depth - 8);
    let levels = if way.samples.space.full_range { (0, 256 * finer - 1) } else { (16 * finer, 235 * finer) };
    way.add(Step::Adjust { adjustment, levels, neutral: 128 * finer });
    Ok(())
}

/// One pass finds out on the way what it may spend, and comes to its mean only over minutes: what is
/// shorter takes two, unless the editor has said how many.
fn decide_passes(asked: PictureFormat, duration: Option<Rational>, journal: &mut Journal) -> PictureFormat {
    if duration.is_some_and(|duration| asked.rate().misses_its_mean(duration)) && !journal.is_own("/picture/rate/passes") {
        let format = asked.in_two_passes();
        let because = "one pass would miss its mean over less than five minutes";
        journal.note(Subject::Rate, "", DecidedBy::Source, rate_words(format), because);
        return format;
    }
    journal.note(Subject::Rate, "/picture/rate", DecidedBy::Preset, rate_words(asked), rate_reason(asked.rate()));
    asked
}

/// How fast the stream may come, and over which buffer: for a mean rate as the preset says, or else twice itself; for a
/// constant one itself, over one second. A level lowers both to what it allows.
fn peak(format: PictureFormat, journal: &mut Journal) -> Option<Peak> {
    let level = format.peak_of_level();
    let own = match format.rate() {
        RateControl::ByProfile => return None,
        RateControl::ConstantQuality { .. } => None,
        RateControl::Average { bits_per_second: BitRate(mean), peak, .. } => {
            let highest = peak.map_or(mean.saturating_mul(2), |peak| peak.0);
            Some(Peak { bits_per_second: BitRate(highest), buffer: highest.saturating_mul(2) })
        }
        RateControl::Constant { bits_per_second } => Some(Peak { bits_per_second, buffer: bits_per_second.0 }),
    };
    let least = |one: Peak, other: Peak| Peak {
        bits_per_second: one.bits_per_second.min(other.bits_per_second),
        buffer: one.buffer.min(other.buffer),
    };
    let peak = match (own, level) {
        (Some(own), Some((_, of_level))) => least(own, of_level),
        (Some(own), None) => own,
        (None, Some((_, of_level))) => of_level,
        (None, None) => return None,
    };
    if matches!(format.rate(), RateControl::Constant { .. }) {
        return Some(peak);
    }
    let what = format!("never more than {} over a buffer of {}", peak.bits_per_second, bits_words(peak.buffer));
    let (setting, because) = match level {
        Some((asked, of_level)) if own.is_none_or(|own| own.bits_per_second >= of_level.bits_per_second) => {
            let words = format!("level {asked} of {} allows no more", format.words());
            ("/picture/level", words)
        }
        _ => ("/picture/rate", "lines and players must be able to follow".to_owned()),
    };
    journal.note(Subject::Rate, setting, DecidedBy::Preset, what, because);
    Some(peak)
}

fn bits_words(bits: u64) -> String {
    if bits >= 10_000_000 { format!("{} Mb", bits / 1_000_000) } else { format!("{} kb", bits / 1000) }
}

fn rate_words(format: PictureFormat) -> String {
    match format.rate() {
        RateControl::ConstantQuality { crf } => format!("constant quality, {} {crf}", format.codec().quality_unit()),
        RateControl::Average { bits_per_second, passes: 2, .. } => format!("{bits_per_second} on average, two passes"),
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
