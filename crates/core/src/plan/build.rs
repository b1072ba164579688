//! From reading, preset and overrides to the plan.

use serde_json::Value;

use super::{Decision, Origin, Plan, PlanError, Subject, picture, sound};
use crate::forecast::forecast;
use crate::parts::Span;
use crate::preset::{Container, Preset, with_overrides};
use crate::rational::Rational;
use crate::reading::{Chapter, Reading};
use crate::timecode::{Timecode, TimecodeError, clock_text, duration_text};

/// Collects decisions and knows which settings the editor made.
pub(super) struct Journal<'a> {
    overrides: &'a Value,
    pub(super) decisions: Vec<Decision>,
}

impl Journal<'_> {
    /// Notes a decision; `setting` is the place of the setting in the preset's document. Where the
    /// editor changed it, the decision is the editor's whatever `origin` says.
    pub(super) fn note(
        &mut self,
        subject: Subject,
        setting: &str,
        origin: Origin,
        what: impl Into<String>,
        because: impl Into<String>,
    ) {
        let origin = if self.is_own(setting) { Origin::Editor } else { origin };
        self.decisions.push(Decision { subject, what: what.into(), because: because.into(), origin });
    }

    /// Whether the editor has set this for the output; nothing has an empty name.
    pub(super) fn is_own(&self, setting: &str) -> bool {
        !setting.is_empty() && self.overrides.pointer(setting).is_some()
    }
}

/// The plan of one output.
///
/// `overrides` is a JSON merge patch on the preset, `{}` for none.
///
/// # Errors
/// [`PlanError`] where the source has nothing that the preset wants, or where a setting cannot hold for it.
pub fn plan(reading: &Reading, preset: &Preset, overrides: &Value) -> Result<Plan, PlanError> {
    let effective = with_overrides(preset, overrides)?;
    let mut journal = Journal { overrides, decisions: Vec::new() };
    journal.note(
        Subject::Container,
        "/container",
        Origin::Preset,
        container_words(effective.container),
        "the preset asks for it",
    );
    let whole = reading;
    let cut;
    let (reading, parts) = if effective.parts.is_empty() {
        (reading, Vec::new())
    } else {
        let (shorter, parts) = reading.cut_to(&effective.parts)?;
        journal.note(Subject::Parts, "/parts", Origin::Preset, parts_words(&parts, reading), "these parts are marked");
        cut = shorter;
        (&cut, parts)
    };
    let (picture, speed) = match (&effective.picture, reading.picture()) {
        (Some(settings), Some((stream, facts))) => {
            let (picture, speed) = picture::plan(settings, stream, facts, reading, whole, &parts, &mut journal)?;
            (Some(picture), speed)
        }
        (Some(_), None) => return Err(PlanError::NothingToMake { missing: "no picture" }),
        (None, _) => (None, Rational::ONE),
    };
    let sound = match &effective.sound {
        Some(settings) => sound::plan(settings, effective.container, speed, reading, &mut journal)?,
        None => {
            journal.note(Subject::Sound, "/sound", Origin::Preset, "left out", "the preset makes a silent file");
            Vec::new()
        }
    };
    if picture.is_none() && sound.is_empty() {
        return Err(PlanError::NothingToMake { missing: "no sound" });
    }
    let duration = output_duration(reading, picture.is_some()).and_then(|duration| duration.divided_by(speed));
    let timecode = picture
        .as_ref()
        .filter(|_| effective.carry.timecode)
        .and_then(|picture| carried_timecode(reading, effective.container, picture.frame_rate.rate(), &mut journal));
    let chapters = if effective.carry.chapters && effective.container != Container::Wav {
        paced(&reading.chapters, speed)
    } else {
        Vec::new()
    };
    let tags = if effective.carry.tags { reading.tags.clone() } else { std::collections::BTreeMap::new() };
    if !chapters.is_empty() || !tags.is_empty() {
        let what = format!("{} and {} carried over", count(chapters.len(), "chapter"), count(tags.len(), "tag"));
        journal.note(Subject::Extras, "/carry", Origin::Source, what, "the source has them");
    }
    let mut plan = Plan {
        preset: effective.id.clone(),
        preset_name: effective.name.clone(),
        container: effective.container,
        picture,
        sound,
        parts,
        duration,
        speed,
        reel: timecode.as_ref().and(reading.reel.clone()),
        timecode,
        chapters,
        tags,
        forecast: crate::forecast::Forecast::default(),
        decisions: journal.decisions,
    };
    plan.forecast = forecast(&plan, reading);
    Ok(plan)
}

/// “00:00:10:00 to 00:00:20:00”, counted from the first frame.
fn parts_words(parts: &[Span], reading: &Reading) -> String {
    let rate = reading.picture().and_then(|(_, picture)| picture.frame_rate);
    let text = |time| rate.map_or_else(|| clock_text(time), |rate| duration_text(time, rate));
    let spans: Vec<String> = parts.iter().map(|part| format!("{} to {}", text(part.from), text(part.to))).collect();
    spans.join(", then ")
}

/// Chapters of what plays faster by a factor.
fn paced(chapters: &[Chapter], speed: Rational) -> Vec<Chapter> {
    let at = |time: Rational| time.divided_by(speed).unwrap_or(time);
    chapters.iter().map(|chapter| Chapter { start: at(chapter.start), end: at(chapter.end), ..chapter.clone() }).collect()
}

fn container_words(container: Container) -> String {
    match container {
        Container::Mp4 => "MP4, its index in front so that it plays while it loads".to_owned(),
        Container::Mov | Container::Mkv | Container::Wav => container.words().to_owned(),
    }
}

fn count(number: usize, noun: &str) -> String {
    format!("{number} {noun}{}", if number == 1 { "" } else { "s" })
}

fn output_duration(reading: &Reading, has_picture: bool) -> Option<Rational> {
    let streams = reading.streams.iter().filter(|stream| match &stream.content {
        crate::reading::Content::Picture(picture) => has_picture && !picture.still,
        crate::reading::Content::Sound(_) => true,
        crate::reading::Content::Subtitles | crate::reading::Content::Attachment | crate::reading::Content::Data => false,
    });
    let spans: Option<Vec<(Rational, Rational)>> =
        streams.map(|stream| stream.duration.map(|duration| (stream.start, stream.start + duration))).collect();
    let spans = spans.filter(|spans| !spans.is_empty());
    let from_streams = spans.and_then(|spans| {
        let start = spans.iter().map(|span| span.0).min()?;
        let end = spans.iter().map(|span| span.1).max()?;
        Some(end - start)
    });
    from_streams.or(reading.duration)
}

fn carried_timecode(reading: &Reading, container: Container, rate: Rational, journal: &mut Journal<'_>) -> Option<String> {
    let written = reading.timecode.as_ref()?;
    let source_rate = reading.picture().and_then(|(_, picture)| picture.frame_rate).unwrap_or(rate);
    // Readers of files agree on the rates of ST 12 only.
    let counted = match rate.round() {
        24 | 25 | 30 | 48 | 50 | 60 | 100 | 120 if rate.denominator() == 1 || rate.denominator() == 1001 => Ok(rate),
        _ => Err(TimecodeError::Rate(rate)),
    };
    let carried = counted.and_then(|rate| Timecode::parse(written, source_rate)?.at_rate(rate));
    match carried {
        Ok(timecode) => {
            let text = timecode.to_string();
            let what = match container {
                Container::Mkv => format!("{text} as a tag"),
                Container::Mp4 | Container::Mov | Container::Wav => format!("{text} as a timecode track"),
            };
            let because = if source_rate == rate {
                "the source begins there".to_owned()
            } else {
                format!("the source begins at {written}; its frames are counted at the new rate")
            };
            journal.note(Subject::Timecode, "/carry/timecode", Origin::Source, what, because);
            Some(text)
        }
        Err(error) => {
            journal.note(Subject::Timecode, "/carry/timecode", Origin::Source, "left out", error.to_string());
            None
        }
    }
}
