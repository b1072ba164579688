//! What an output will weigh, before it is made.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::after::sample::{Foretold, Sample, foretell};
use crate::facts::{Content, Facts, Picture, Sound, Stream};
use crate::formats::{PictureCodec, PictureFormat, RateControl, SizeModel, SoundCoding};
use crate::picture::{Colour, FieldOrder, PixelFormat};
use crate::plan::{Decision, Origin, PicturePlan, Plan, Subject, Track, plan};
use crate::preset::{Preset, PresetPatch};
use crate::reading::Reading;
use crate::time::{Rational, total};
use crate::units::{BitRate, ByteSize};

/// The weight of an output before it is made.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, ToSchema)]
pub struct Forecast {
    /// Picture, sound and container together.
    pub size: ByteSize,
    /// The picture's part.
    pub picture: ByteSize,
    /// The sound's part.
    pub sound: ByteSize,
    /// What the container adds.
    pub overhead: ByteSize,
    /// How far it can be trusted.
    pub certainty: Certainty,
    /// Whether that is more than what is taken of the source, where the output is to be smaller.
    #[serde(default)]
    pub exceeds_source: bool,
    /// Milliseconds of processor time that it will take, where proofs have shown it.
    #[serde(default)]
    pub cpu_milliseconds: Option<u64>,
    /// Milliseconds of processor time that decoding what is taken of the source takes once.
    #[serde(default)]
    pub decoding_milliseconds: u64,
}

impl Forecast {
    /// That a file which is made for its size would be larger than what it is made of, and what helps.
    #[must_use]
    pub fn warning(&self) -> Option<Decision> {
        let verb = if self.certainty == Certainty::Fixed { "is" } else { "may be" };
        self.exceeds_source.then(|| Decision {
            subject: Subject::Rate,
            what: format!("the file {verb} larger than its source"),
            because: format!(
                "its forecast is {}; constant quality, a lower bit rate or a smaller frame makes it smaller",
                self.size
            ),
            origin: Origin::Source,
        })
    }
}

/// A plan with what it is expected to weigh.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Outlook {
    /// What would be made.
    #[serde(flatten)]
    pub plan: Plan,
    /// What it will weigh.
    pub forecast: Forecast,
}

impl Outlook {
    /// Of a plan for a source with these facts, of which proofs have shown `samples`. A warning stands among the
    /// decisions.
    #[must_use]
    pub fn of(mut plan: Plan, facts: &Facts, samples: &[Sample]) -> Self {
        let forecast = forecast(&plan, facts, samples);
        plan.decisions.extend(forecast.warning());
        Self { plan, forecast }
    }
}

/// How far a forecast can be trusted.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Certainty {
    /// The format fixes its rate: within one percent.
    Fixed,
    /// A rate that easy pictures stay below: it is not exceeded by more than a few percent.
    // What earlier versions called “rated” were mean rates for the greater part.
    #[serde(alias = "rated")]
    Ceiling,
    /// Proofs of these very settings have shown it: within some twelve percent.
    Sampled,
    /// A model of how hard such material is: most files weigh half to two and a half times this, nineteen of twenty
    /// between a tenth and five times. A proof sharpens it.
    #[default]
    Modelled,
    /// The source does not tell how long it is.
    Unknown,
}

/// What `plan` will weigh, for a source with these facts of which proofs have shown `samples`.
#[must_use]
pub fn forecast(plan: &Plan, facts: &Facts, samples: &[Sample]) -> Forecast {
    let Some(duration) = plan.duration.filter(|duration| duration.is_positive()) else {
        return Forecast { certainty: Certainty::Unknown, ..Forecast::default() };
    };
    let foretold = plan.picture.as_ref().and_then(|picture| foretell(samples, picture, modelled));
    let picture = plan
        .picture
        .as_ref()
        .map_or(ByteSize(0), |picture| picture_rate(picture, foretold, facts).over(picture.duration.unwrap_or(duration)));
    let sound = plan.sound.iter().map(|sound| sound_rate(sound, facts).over(duration)).sum();
    let overhead = overhead(plan, duration);
    let by_rate = plan.picture.as_ref().map_or(Some(Certainty::Fixed), |picture| certainty_of_rate(picture.format, duration));
    let size = picture + sound + overhead;
    Forecast {
        size,
        exceeds_source: is_to_be_smaller(plan) && taken_size(plan, facts).is_some_and(|taken| size > taken),
        picture,
        sound,
        overhead,
        certainty: match (by_rate, foretold) {
            // What proofs have shown of easy pictures says more than their ceiling.
            (Some(Certainty::Fixed), _) => Certainty::Fixed,
            (_, Some(Foretold::Measured { .. })) => Certainty::Sampled,
            (Some(by_rate), Some(Foretold::Likened { .. }) | None) => by_rate,
            (None, Some(Foretold::Likened { .. }) | None) => Certainty::Modelled,
        },
        cpu_milliseconds: match foretold {
            Some(Foretold::Measured { cpu_milliseconds, .. }) => {
                u64::try_from((duration * Rational::whole(i64::try_from(cpu_milliseconds).unwrap_or(0))).round()).ok()
            }
            Some(Foretold::Likened { .. }) | None => None,
        },
        decoding_milliseconds: plan.picture.as_ref().map_or(0, |_| decoding_milliseconds(facts, duration * plan.speed)),
    }
}

/// How far a rate can be trusted by itself; nothing where material decides.
fn certainty_of_rate(format: PictureFormat, duration: Rational) -> Option<Certainty> {
    match (format.rate(), format.codec().size) {
        (RateControl::Constant { .. }, _) => Some(Certainty::Fixed),
        (rate @ RateControl::Average { .. }, _) if !rate.misses_its_mean(duration) => Some(Certainty::Ceiling),
        (RateControl::ByProfile, SizeModel::OfProfile) => Some(Certainty::Ceiling),
        (RateControl::Average { .. } | RateControl::ConstantQuality { .. } | RateControl::ByProfile, _) => None,
    }
}

/// Nanoseconds of one core that decoding takes for each pixel: a first guess, to be scaled by what runs really took.
fn decoding_cost(codec: &str) -> i64 {
    match codec {
        "rawvideo" | "dvvideo" | "mpeg1video" | "mpeg2video" | "mjpeg" => 3,
        "hevc" | "av1" | "vp9" => 12,
        "prores" | "ffv1" | "dnxhd" | "jpeg2000" => 14,
        _ => 8,
    }
}

fn decoding_milliseconds(facts: &Facts, seconds: Rational) -> u64 {
    let Some((stream, picture)) = facts.picture() else { return 0 };
    let pixels = i64::from(picture.width) * i64::from(picture.height);
    let frames = (picture.frame_rate.unwrap_or(Rational::whole(25)) * seconds).round();
    let nanoseconds = i128::from(pixels) * i128::from(frames) * i128::from(decoding_cost(&stream.codec));
    u64::try_from(nanoseconds / 1_000_000).unwrap_or(u64::MAX)
}

/// Whether an output is made for its size: files for editing and archives are not.
fn is_to_be_smaller(plan: &Plan) -> bool {
    plan.picture.as_ref().is_some_and(|picture| picture.format.codec().is_for_size)
}

/// What is taken of the source weighs.
fn taken_size(plan: &Plan, facts: &Facts) -> Option<ByteSize> {
    if plan.parts.is_empty() { Some(facts.size) } else { facts.size_of_part(total(&plan.parts)) }
}

/// What `preset` makes of a minute of 1080p25 with stereo sound: the figure by which presets are compared. Nothing where
/// it wants what such a source does not have, such as a second stream of sound.
#[must_use]
pub fn bytes_per_minute(preset: &Preset) -> Option<ByteSize> {
    let minute = Rational::whole(60);
    let stream = |index, codec: &str, content| Stream {
        index,
        codec: codec.to_owned(),
        codec_tag: String::new(),
        profile: None,
        level: None,
        bit_rate: None,
        start: Some(Rational::ZERO),
        duration: Some(minute),
        language: None,
        title: None,
        roles: Vec::new(),
        content,
    };
    let picture = Picture {
        width: 1920,
        height: 1080,
        pixel_aspect: Rational::ONE,
        pixel_format: PixelFormat::named("yuv422p10le"),
        depth: 10,
        frame_rate: Some(Rational::whole(25)),
        varies: false,
        dominant_rate: None,
        frames: Some(1500),
        frames_are_counted: true,
        field_order: FieldOrder::Progressive,
        colour: Colour::default(),
        hdr: None,
        orientation: crate::picture::Orientation::default(),
        still: false,
    };
    let sound = Sound { channels: 2, layout: "stereo".to_owned(), sample_rate: 48_000, bits: Some(24) };
    let facts = Facts {
        container: String::new(),
        container_name: String::new(),
        size: ByteSize(0),
        duration: Some(minute),
        start: Rational::ZERO,
        bit_rate: None,
        timecode: None,
        reel: None,
        missing: None,
        tags: std::collections::BTreeMap::new(),
        chapters: Vec::new(),
        streams: vec![stream(0, "prores", Content::Picture(Box::new(picture))), stream(1, "pcm_s24le", Content::Sound(sound))],
        remarks: Vec::new(),
    };
    let reading = Reading::from(facts);
    let plan = plan(&reading, preset, &PresetPatch::default()).ok()?;
    Some(forecast(&plan, &reading.facts, &[]).size)
}

fn picture_rate(picture: &PicturePlan, foretold: Option<Foretold>, facts: &Facts) -> BitRate {
    match (picture.format.rate(), foretold) {
        (RateControl::Constant { bits_per_second }, _) => bits_per_second,
        // A sample of easy pictures shows how far below its mean a rate stays.
        (RateControl::Average { bits_per_second, .. }, Some(Foretold::Measured { rate, .. })) => {
            BitRate(bits_per_second.0.min(rate.0))
        }
        (RateControl::Average { bits_per_second, .. }, _) => BitRate(bits_per_second.0.min(most_needed(picture, facts).0)),
        (RateControl::ByProfile | RateControl::ConstantQuality { .. }, Some(Foretold::Measured { rate, .. })) => rate,
        (RateControl::ByProfile, _) => match picture.format.profile().bits_of_macroblock {
            Some(bits) => rate_of_profile(picture, bits),
            None => lossless_rate(picture),
        },
        (RateControl::ConstantQuality { crf }, Some(Foretold::Likened { factor })) => {
            whole_rate(quality_rate(picture, crf).0 as f64 * factor)
        }
        (RateControl::ConstantQuality { crf }, None) => weigh_in_source(quality_rate(picture, crf), picture, facts),
    }
}

/// More than pictures of this size and source ever need: what lies beyond the eye's reach by the model, and as much
/// again as the model was ever found to be off.
fn most_needed(picture: &PicturePlan, facts: &Facts) -> BitRate {
    const BEYOND_THE_EYE: u8 = 14;
    const MOST_OFF: u64 = 8;
    BitRate(weigh_in_source(quality_rate(picture, BEYOND_THE_EYE), picture, facts).0.saturating_mul(MOST_OFF))
}

/// What the model says of a picture of constant quality, in bits a second.
fn modelled(picture: &PicturePlan) -> Option<f64> {
    match picture.format.rate() {
        RateControl::ConstantQuality { crf } => Some(quality_rate(picture, crf).0 as f64),
        RateControl::Average { .. } | RateControl::Constant { .. } | RateControl::ByProfile => None,
    }
}

/// A first model of constant quality: bits per pixel halve for every six steps of CRF, and grow
/// more slowly than the number of pixels and frames, since larger pictures are smoother and
/// faster ones change less from frame to frame.
fn quality_rate(picture: &PicturePlan, crf: u8) -> BitRate {
    let pixels = f64::from(picture.width) * f64::from(picture.height);
    let frames = picture.frame_rate.rate().to_f64().max(1.0);
    let SizeModel::Quality { at, bits_per_pixel, to_halve } = picture.format.codec().size else {
        return lossless_rate(picture);
    };
    let halvings = (f64::from(crf) - f64::from(at)) / to_halve;
    let size = (pixels / (1920.0 * 1080.0)).powf(0.75) * 1920.0 * 1080.0;
    let pace = (frames / 25.0).powf(0.6) * 25.0;
    whole_rate(bits_per_pixel * (-halvings).exp2() * picture.format.effects().size * size * pace)
}

/// Without loss, pictures of cameras shrink to something like a third.
fn lossless_rate(picture: &PicturePlan) -> BitRate {
    let form = picture.pixel_format.form();
    let samples = form.shared().map_or(1.0, |(columns, lines)| 1.0 + 2.0 / f64::from(columns * lines));
    let depth = f64::from(form.depth);
    let pixels = f64::from(picture.width) * f64::from(picture.height) * picture.frame_rate.rate().to_f64();
    whole_rate(pixels * samples * depth * 0.3)
}

/// How many bits a second the codec of a source takes for the same look, H.264 being one.
fn appetite(codec: &str) -> Option<f64> {
    let written = PictureCodec::all().into_iter().find(|known| known.probe_name == codec);
    written.and_then(|known| known.appetite).or(match codec {
        "vp8" => Some(1.0),
        "vp9" => Some(0.65),
        "av1" => Some(0.55),
        "mpeg4" => Some(2.5),
        _ => None,
    })
}

/// The part of what a source of the same codec and size spent that its pictures take at constant quality: measured
/// over the files of cameras, phones and screens that `docs/benchmarks.md` tells of.
const OF_SOURCE: f64 = 0.57;

/// A source in a codec that spends bits where they are needed tells how hard its material is:
/// the forecast goes half way (on a scale of ratios) from the model to what the source spent.
fn weigh_in_source(model: BitRate, picture: &PicturePlan, facts: &Facts) -> BitRate {
    let Some((stream, source)) = facts.picture() else { return model };
    let (Some(source_appetite), Some(appetite)) = (appetite(&stream.codec), picture.format.codec().appetite) else {
        return model;
    };
    let Some(spent) = stream.bit_rate.or(facts.bit_rate).filter(|rate| rate.0 > 0) else { return model };
    let pixels =
        f64::from(picture.width) * f64::from(picture.height) / (f64::from(source.width) * f64::from(source.height)).max(1.0);
    let frames = source.frame_rate.map_or(1.0, |rate| picture.frame_rate.rate().to_f64() / rate.to_f64().max(0.1));
    let as_source = spent.0 as f64 * appetite / source_appetite * pixels.powf(0.75) * frames.powf(0.6);
    whole_rate((model.0 as f64 * as_source * OF_SOURCE).sqrt())
}

/// What a profile that fixes the bits of a macroblock takes.
fn rate_of_profile(picture: &PicturePlan, bits_of_macroblock: &[u32; 4]) -> BitRate {
    let blocks = picture.width.div_ceil(16) * picture.height.div_ceil(16);
    let class = match blocks {
        0..=1620 => 0,
        1621..=2700 => 1,
        2701..=6075 => 2,
        _ => 3,
    };
    whole_rate(f64::from(blocks) * f64::from(bits_of_macroblock[class]) * picture.frame_rate.rate().to_f64())
}

fn whole_rate(bits: f64) -> BitRate {
    // Within 2^53 by construction: the largest frame is 8192 lines, the fastest rate 240.
    #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss)]
    BitRate(bits.max(0.0) as u64)
}

fn sound_rate(sound: &Track, facts: &Facts) -> BitRate {
    let samples = u64::from(sound.sample_rate) * u64::from(sound.channels);
    match sound.codec.coding {
        SoundCoding::Blocks(_) => sound.bit_rate.unwrap_or_default(),
        SoundCoding::Linear { bits, .. } => BitRate(samples * u64::from(bits)),
        SoundCoding::Copied => {
            let stream = facts.streams.iter().find(|stream| Some(stream.index) == sound.whole_stream());
            stream.and_then(|stream| stream.bit_rate).unwrap_or_default()
        }
    }
}

/// What the container adds: a fixed part, and for each sample what its tables or headers take.
fn overhead(plan: &Plan, duration: Rational) -> ByteSize {
    let seconds = duration.to_f64();
    let frames = plan.picture.as_ref().map_or(0.0, |picture| picture.frame_rate.rate().to_f64() * seconds);
    let sound_packets: f64 = plan
        .sound
        .iter()
        .map(|sound| match &sound.codec.coding {
            SoundCoding::Blocks(blocks) => f64::from(sound.sample_rate) / f64::from(blocks.samples) * seconds,
            SoundCoding::Copied => f64::from(sound.sample_rate) / 1024.0 * seconds,
            SoundCoding::Linear { .. } => seconds * 2.0,
        })
        .sum();
    let adds = plan.container.traits().overhead;
    let bytes = adds.always + frames * adds.of_frame + sound_packets * adds.of_sound;
    #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss)]
    ByteSize(bytes as u64)
}
