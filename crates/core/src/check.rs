//! Holding a finished file against its plan. The engine measures, this module judges.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::plan::{FrameRatePlan, Plan};
use crate::preset::{Container, PictureCodec, SoundCodec};
use crate::problem::{Problem, ProblemKind};
use crate::rational::Rational;
use crate::reading::{Content, Reading, Stream};
use crate::units::{ByteSize, rate_text};

/// What was found in a finished file by reading it back, and what was counted while writing it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Measured {
    /// The facts of the file.
    pub reading: Reading,
    /// Whether the index stands before the media, for formats that have one.
    pub index_in_front: Option<bool>,
    /// What each stream's packets say.
    pub streams: Vec<StreamMeasure>,
    /// Frames that went into the picture encoder.
    pub frames_encoded: Option<u64>,
    /// Seconds from the first sound to the first picture in the source, as decoded.
    pub source_offset: Option<Rational>,
    /// Faults that the decoder met in the source.
    pub decode_faults: u64,
    /// Seconds up to which the source could be read.
    pub source_end: Option<Rational>,
    /// Milliseconds of processor time that making it took, what it shared with others counted in full.
    #[serde(default)]
    pub cpu_milliseconds: Option<u64>,
}

/// What the packets of one stream say.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct StreamMeasure {
    /// The stream.
    pub index: u32,
    /// How many packets are shown (edit lists and priming regarded).
    pub packets: u64,
    /// Seconds of the first time stamp.
    pub first: Rational,
    /// Seconds of the end of the last.
    pub end: Rational,
    /// Whether all distances are equal.
    pub even: bool,
    /// Whether the first packet could be decoded.
    pub decodes: bool,
    /// Bytes of all packets.
    #[serde(default)]
    pub bytes: ByteSize,
    /// How many packets are key frames.
    #[serde(default)]
    pub key_packets: u64,
    /// Bytes of these.
    #[serde(default)]
    pub key_bytes: ByteSize,
}

/// One thing that was held against the plan.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct CheckItem {
    /// What was looked at.
    pub what: String,
    /// What the plan says.
    pub expected: String,
    /// What the file has.
    pub found: String,
    /// Whether they agree.
    pub passed: bool,
}

/// The verdict on a file.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct CheckReport {
    /// Whether everything agrees.
    pub passed: bool,
    /// The file's size.
    pub size: ByteSize,
    /// Each point.
    pub items: Vec<CheckItem>,
    /// What is worth knowing although the file is as planned.
    pub remarks: Vec<String>,
}

/// Sound and picture may be this far from their offset in the source: one millisecond.
const OFFSET_TOLERANCE: Rational = Rational::constant(1, 1000);

struct Judge {
    items: Vec<CheckItem>,
}

impl Judge {
    fn item(&mut self, what: impl Into<String>, expected: impl ToString, found: impl ToString, passed: bool) {
        self.items.push(CheckItem { what: what.into(), expected: expected.to_string(), found: found.to_string(), passed });
    }

    fn equal<T: PartialEq + ToString>(&mut self, what: impl Into<String>, expected: T, found: T) {
        let passed = expected == found;
        self.item(what, expected, found, passed);
    }
}

/// Holds what was measured in a file against its plan.
#[must_use]
pub fn judge(plan: &Plan, measured: &Measured) -> CheckReport {
    let mut judge = Judge { items: Vec::new() };
    judge_container(plan, measured, &mut judge);
    judge_picture(plan, measured, &mut judge);
    judge_sound(plan, measured, &mut judge);
    judge_duration(plan, measured, &mut judge);
    judge_offset(plan, measured, &mut judge);
    if let Some(timecode) = &plan.timecode {
        let found = measured.reading.timecode.clone().unwrap_or_else(|| "none".to_owned());
        judge.equal("timecode", timecode.clone(), found);
    }
    if plan.container != Container::Wav {
        judge.equal("chapters", plan.chapters.len(), measured.reading.chapters.len());
    }
    let mut remarks = Vec::new();
    if measured.decode_faults > 0 {
        remarks.push(format!("The source had {} faults while it was decoded; look at the output there.", measured.decode_faults));
    }
    CheckReport { passed: judge.items.iter().all(|item| item.passed), size: measured.reading.size, items: judge.items, remarks }
}

fn judge_container(plan: &Plan, measured: &Measured, judge: &mut Judge) {
    let expected = match plan.container {
        Container::Mp4 | Container::Mov => "mov",
        Container::Mkv => "matroska",
        Container::Wav => "wav",
    };
    let found = measured.reading.container.split(',').next().unwrap_or_default();
    judge.equal("container", expected, found);
    judge.item("size", "more than nothing", measured.reading.size, measured.reading.size > ByteSize(0));
    if plan.container == Container::Mp4 {
        let words = |front: bool| if front { "in front" } else { "at the end" };
        judge.equal("index", words(true), words(measured.index_in_front == Some(true)));
    }
}

fn streams_of(measured: &Measured, wanted: fn(&Content) -> bool) -> Vec<(&Stream, Option<&StreamMeasure>)> {
    let measure = |index| measured.streams.iter().find(|stream| stream.index == index);
    let streams = measured.reading.streams.iter().filter(move |stream| wanted(&stream.content));
    streams.map(|stream| (stream, measure(stream.index))).collect()
}

fn is_moving_picture(content: &Content) -> bool {
    matches!(content, Content::Picture(picture) if !picture.still)
}

const fn is_sound(content: &Content) -> bool {
    matches!(content, Content::Sound(_))
}

fn judge_picture(plan: &Plan, measured: &Measured, judge: &mut Judge) {
    let pictures = streams_of(measured, is_moving_picture);
    judge.equal("picture streams", usize::from(plan.picture.is_some()), pictures.len());
    let (Some(planned), Some((stream, measure))) = (&plan.picture, pictures.first()) else { return };
    let Content::Picture(found) = &stream.content else { return };
    judge.equal("picture codec", planned.codec.probe_name(), stream.codec.as_str());
    judge.equal("frame size", format!("{}×{}", planned.width, planned.height), format!("{}×{}", found.width, found.height));
    judge.equal("pixel aspect", planned.pixel_aspect, found.pixel_aspect);
    if planned.codec != PictureCodec::Prores {
        judge.equal("pixel format", planned.pixel_format.as_str(), found.pixel_format.as_str());
    }
    for (name, planned, found) in [
        ("colour primaries", &planned.colour.primaries, &found.colour.primaries),
        ("transfer", &planned.colour.transfer, &found.colour.transfer),
        ("matrix", &planned.colour.matrix, &found.colour.matrix),
    ] {
        if let Some(planned) = planned {
            judge.equal(name, planned.as_str(), found.as_deref().unwrap_or("not declared"));
        }
    }
    if let FrameRatePlan::Constant { rate } = planned.frame_rate {
        let found_rate = found.frame_rate.map_or_else(|| "unknown".to_owned(), rate_text);
        judge.equal("frame rate", rate_text(rate), found_rate);
    }
    let Some(measure) = measure else {
        judge.item("picture packets", "readable", "none", false);
        return;
    };
    if let FrameRatePlan::Constant { .. } = planned.frame_rate
        && measure.packets > 1
    {
        let words = |even: bool| if even { "even to the tick" } else { "uneven" };
        judge.equal("distance of frames", words(true), words(measure.even));
    }
    judge.item("first frame", "decodes", if measure.decodes { "decodes" } else { "does not decode" }, measure.decodes);
    if let Some(encoded) = measured.frames_encoded {
        judge.equal("frames written", encoded, measure.packets);
    }
    if let Some(planned_frames) = planned.frames {
        // Rounding of a header's duration may cost or add a frame, a converted rate one at each end.
        let near = planned_frames.abs_diff(measure.packets) <= 2;
        judge.item("frames", planned_frames, measure.packets, near);
    }
}

fn judge_sound(plan: &Plan, measured: &Measured, judge: &mut Judge) {
    let sounds = streams_of(measured, is_sound);
    judge.equal("sound streams", plan.sound.len(), sounds.len());
    for (number, (planned, (stream, measure))) in plan.sound.iter().zip(&sounds).enumerate() {
        let Content::Sound(found) = &stream.content else { continue };
        let name = |what: &str| if plan.sound.len() == 1 { what.to_owned() } else { format!("{what} {}", number + 1) };
        let codec = match planned.codec {
            SoundCodec::Aac => Some("aac"),
            SoundCodec::Pcm16 => Some("pcm_s16le"),
            SoundCodec::Pcm24 => Some("pcm_s24le"),
            SoundCodec::Copy => None,
        };
        if let Some(codec) = codec {
            judge.equal(name("sound codec"), codec, stream.codec.as_str());
        }
        judge.equal(name("channels"), planned.channels, found.channels);
        judge.equal(name("sample rate"), planned.sample_rate, found.sample_rate);
        if let Some(language) = &planned.language
            && plan.container != Container::Wav
        {
            judge.equal(name("language"), language.as_str(), stream.language.as_deref().unwrap_or("none"));
        }
        match measure {
            Some(measure) => {
                judge.item(
                    name("sound"),
                    "decodes",
                    if measure.decodes { "decodes" } else { "does not decode" },
                    measure.decodes,
                );
            }
            None => judge.item(name("sound packets"), "readable", "none", false),
        }
    }
}

fn judge_duration(plan: &Plan, measured: &Measured, judge: &mut Judge) {
    let Some(planned) = plan.duration else { return };
    let end = measured.streams.iter().map(|stream| stream.end).max();
    let first = measured.streams.iter().map(|stream| stream.first).min();
    let (Some(end), Some(first)) = (end, first) else { return };
    let found = end - first;
    let frame = plan.picture.as_ref().and_then(|picture| picture.frame_rate.rate().inverse()).unwrap_or(Rational::ZERO);
    // Two frames of picture, or two packets of sound, whichever is longer.
    let tolerance = (frame + frame).max(Rational::constant(1, 20));
    let text = |seconds: Rational| format!("{:.3} s", seconds.to_f64());
    judge.item("duration", text(planned), text(found), (planned - found).abs() <= tolerance);
    let starts_at_nought = first.abs() <= OFFSET_TOLERANCE;
    judge.item("first time stamp", "0.000 s", text(first), starts_at_nought);
}

fn judge_offset(plan: &Plan, measured: &Measured, judge: &mut Judge) {
    let Some(source) = measured.source_offset.map(|offset| plan.at_its_speed(offset)) else { return };
    let pictures = streams_of(measured, is_moving_picture);
    let sounds = streams_of(measured, is_sound);
    let (Some((_, Some(picture))), Some((_, Some(sound)))) = (pictures.first(), sounds.first()) else { return };
    let found = picture.first - sound.first - kept_priming(plan);
    let text = |seconds: Rational| format!("{:+.1} ms", seconds.to_f64() * 1e3);
    let passed = (found - source).abs() <= OFFSET_TOLERANCE;
    judge.item("picture after sound", text(source), text(found), passed);
}

/// Seconds by which coded sound begins before the sound itself. Matroska keeps the samples that
/// fill an AAC encoder as sound of its own; the other formats hide them by an edit list.
fn kept_priming(plan: &Plan) -> Rational {
    match plan.sound.first() {
        Some(sound) if plan.container == Container::Mkv && sound.codec == SoundCodec::Aac => {
            Rational::new(AAC_PRIMING, sound.sample_rate.into()).unwrap_or(Rational::ZERO)
        }
        Some(_) | None => Rational::ZERO,
    }
}

/// Samples with which the library's AAC encoder is filled.
const AAC_PRIMING: i64 = 1024;

/// What a report that was not passed means for a person; nothing for one that was.
#[must_use]
pub fn problem_of(plan: &Plan, measured: &Measured, report: &CheckReport) -> Option<Problem> {
    if report.passed {
        return None;
    }
    // A source that ends early makes a file that is too short: the source is to be named, not the file.
    let (planned, end, tolerance) = match &plan.picture {
        Some(picture) => {
            (picture.duration, measured.source_end.map(|end| plan.at_its_speed(end)), picture.frame_rate.rate().inverse())
        }
        None => (plan.duration, measured.streams.iter().map(|stream| stream.end).max(), Some(SOUND_TOLERANCE)),
    };
    if let (Some(planned), Some(end), Some(tolerance)) = (planned, end, tolerance)
        && planned - end > tolerance
    {
        let why = format!("it should last {:.2} s and could be read up to {:.2} s only", planned.to_f64(), end.to_f64());
        return Some(Problem::new(ProblemKind::CutShort, "the source ends too early", why));
    }
    let failed: Vec<String> = report
        .items
        .iter()
        .filter(|item| !item.passed)
        .map(|item| format!("{} is {} instead of {}", item.what, item.found, item.expected))
        .collect();
    Some(Problem::new(ProblemKind::CheckFailed, format!("{} is not as planned", plan.preset_name), failed.join("; ")))
}

/// Sound that ends this much before its planned end is no rounding.
const SOUND_TOLERANCE: Rational = Rational::constant(1, 10);

/// What differs between two readings, for showing them side by side.
#[must_use]
pub fn compare(before: &Reading, after: &Reading) -> Vec<CheckItem> {
    let (left, right) = (fact_lines(before), fact_lines(after));
    left.into_iter()
        .zip(right)
        .map(|((what, expected), (_, found))| CheckItem { what: what.to_owned(), passed: expected == found, expected, found })
        .collect()
}

fn fact_lines(reading: &Reading) -> Vec<(&'static str, String)> {
    let none = || "—".to_owned();
    let picture = reading.picture();
    let of_picture = |text: fn(&crate::reading::Picture) -> String| picture.map_or_else(none, |(_, picture)| text(picture));
    let sounds: Vec<String> = reading
        .sounds()
        .map(|(stream, sound)| {
            let language = stream.language.as_ref().map_or_else(String::new, |language| format!(" {language}"));
            format!("{} {} {} kHz{language}", stream.codec_words(), sound.layout, f64::from(sound.sample_rate) / 1e3)
        })
        .collect();
    let colour = picture.map_or_else(none, |(_, picture)| {
        let parts = [&picture.colour.primaries, &picture.colour.transfer, &picture.colour.matrix];
        parts.map(|part| part.as_deref().unwrap_or("–")).join(" / ")
    });
    let duration = reading.duration.map_or_else(none, |duration| match picture.and_then(|(_, picture)| picture.frame_rate) {
        Some(rate) => crate::timecode::duration_text(duration, rate),
        None => crate::timecode::clock_text(duration),
    });
    vec![
        ("Size", reading.size.to_string()),
        ("Container", reading.container_name.clone()),
        ("Duration", duration),
        ("Bit rate", reading.bit_rate.map_or_else(none, |rate| rate.to_string())),
        ("Timecode", reading.timecode.clone().unwrap_or_else(none)),
        ("Picture codec", picture.map_or_else(none, |(stream, _)| stream.codec_words())),
        ("Frame size", of_picture(|picture| format!("{}×{}", picture.width, picture.height))),
        ("Pixel aspect", of_picture(|picture| picture.pixel_aspect.to_string())),
        ("Pixel format", of_picture(|picture| picture.pixel_format.clone())),
        (
            "Frame rate",
            of_picture(|picture| match (picture.frame_rate, picture.varies) {
                (Some(rate), true) => format!("varies around {}", rate_text(rate)),
                (Some(rate), false) => rate_text(rate),
                (None, _) => "unknown".to_owned(),
            }),
        ),
        ("Fields", of_picture(|picture| picture.field_order.words().to_owned())),
        ("Colour", colour),
        ("Sound", if sounds.is_empty() { none() } else { sounds.join(", ") }),
        ("Chapters", reading.chapters.len().to_string()),
    ]
}
