//! From reading, preset and overrides to the plan.

use serde_json::Value;

use super::{Decision, Division, FrameRatePlan, Origin as DecidedBy, PicturePlan, Plan, PlanError, Subject, picture, sound};
use crate::facts::{Chapter, Content, Stream};
use crate::formats::{Chapters, Container};
use crate::preset::{Lead, Preset, PresetPatch, SoundFiles, apply};
use crate::reading::Reading;
use crate::time::{Rational, Span, Timecode, TimecodeError};
use crate::timeline::{self, Origin};

/// Collects decisions and knows which settings the editor made.
pub(super) struct Journal {
    /// The editor's own settings, as they are written in documents.
    own: Value,
    pub(super) decisions: Vec<Decision>,
}

impl Journal {
    /// Notes a decision; `setting` is the place of the setting in the preset's document. Where the
    /// editor changed it, the decision is the editor's whatever `origin` says.
    pub(super) fn note(
        &mut self,
        subject: Subject,
        setting: &str,
        origin: DecidedBy,
        what: impl Into<String>,
        because: impl Into<String>,
    ) {
        let origin = if self.is_own(setting) { DecidedBy::Editor } else { origin };
        self.decisions.push(Decision { subject, what: what.into(), because: because.into(), origin });
    }

    /// Whether the editor has set this for the output; nothing has an empty name.
    pub(super) fn is_own(&self, setting: &str) -> bool {
        !setting.is_empty() && self.own.pointer(setting).is_some()
    }
}

/// The plan of one output, with a patch on the preset as it is written in documents, null for none.
///
/// # Errors
/// As for [`plan`], and where the patch cannot be read.
pub fn plan_with(reading: &Reading, preset: &Preset, overrides: &Value) -> Result<Plan, PlanError> {
    plan(reading, preset, &PresetPatch::from_value(overrides.clone())?)
}

/// The plan of one output; `own` is what the editor has set for it.
///
/// # Errors
/// [`PlanError`] where the source has nothing that the preset wants, or where a setting cannot hold for it.
pub fn plan(reading: &Reading, preset: &Preset, own: &PresetPatch) -> Result<Plan, PlanError> {
    let (effective, left_out) = apply(preset, own)?;
    let mut journal = Journal { own: serde_json::to_value(own).unwrap_or_default(), decisions: Vec::new() };
    for setting in left_out {
        let what = format!("{} was left out", setting.setting);
        journal.decisions.push(Decision {
            subject: Subject::Settings,
            what,
            because: setting.because,
            origin: DecidedBy::Editor,
        });
    }
    journal.note(
        Subject::Container,
        "/container",
        DecidedBy::Preset,
        format!("{}{}", effective.container.words(), effective.container.traits().because),
        "the preset asks for it",
    );
    let whole = reading;
    let nought = if effective.parts.is_empty() {
        timeline::origin(&reading.facts)
    } else {
        Origin { at: reading.facts.zero(), lead_frames: 0, sound_cut: Rational::ZERO }
    };
    let cut;
    let (reading, parts) = if effective.parts.is_empty() {
        (reading, Vec::new())
    } else {
        let (shorter, parts) = reading.cut_to(&effective.parts)?;
        let last = effective.parts.last().zip(parts.last());
        let beyond = last.filter(|(marked, taken)| marked.to - taken.to >= Rational::constant(1, 20));
        let because = match beyond {
            Some((marked, _)) => {
                format!("these parts are marked; the source ends before {}, the last mark", reading.facts.moment_words(marked.to))
            }
            None => "these parts are marked".to_owned(),
        };
        journal.note(Subject::Parts, "/parts", DecidedBy::Preset, parts_words(&parts, reading), because);
        cut = shorter;
        (&cut, parts)
    };
    let (picture, speed) = match (&effective.picture, reading.facts.picture()) {
        (Some(settings), Some((stream, facts))) => {
            let taken = picture::Taken { reading, whole, parts: &parts, nought, container: effective.container };
            let (picture, speed) = picture::plan(settings, stream, facts, taken, &mut journal)?;
            (Some(picture), speed)
        }
        (Some(_), None) => return Err(PlanError::NothingToMake { missing: "no picture" }),
        (None, _) => (None, Rational::ONE),
    };
    let division = match effective.sound.as_ref().map(|sound| sound.files) {
        Some(SoundFiles::Apart) => Division::SoundApart { container: effective.sound_container() },
        Some(SoundFiles::Together) | None => Division::Together,
    };
    let sound = match &effective.sound {
        Some(settings) => {
            let container = effective.sound_container();
            let planned = sound::plan(settings, (container, division), speed, &reading.facts, &mut journal)?;
            if let Division::SoundApart { .. } = division {
                let what = format!("each track in a {} file of its own", container.words());
                journal.note(Subject::Sound, "/sound/files", DecidedBy::Preset, what, "the preset asks for it");
            }
            planned
        }
        None => {
            journal.note(Subject::Sound, "/sound", DecidedBy::Preset, "left out", "the preset makes a silent file");
            Vec::new()
        }
    };
    if picture.is_none() && sound.is_empty() {
        return Err(PlanError::NothingToMake { missing: "no sound" });
    }
    if let Some(picture) = &picture {
        note_start(nought, picture, whole, &mut journal);
    }
    let begins = if parts.is_empty() { nought.at } else { Rational::ZERO };
    let taken = |stream: &Stream| match &stream.content {
        Content::Picture(_) => picture.as_ref().is_some_and(|picture| picture.source_stream == stream.index),
        Content::Sound(_) => sound.iter().any(|track| track.streams().contains(&stream.index)),
        Content::Subtitles { .. } | Content::Attachment | Content::Data => false,
    };
    let duration = output_duration(reading, begins, taken).and_then(|duration| duration.divided_by(speed));
    let timecode = picture
        .as_ref()
        .filter(|_| effective.carry.timecode)
        .and_then(|picture| carried_timecode(reading, nought.lead_frames, effective.container, picture.frame_rate, &mut journal));
    let mut chapters = if effective.carry.chapters && effective.container.traits().chapters != Chapters::None {
        paced(&reading.facts.chapters, begins, speed)
    } else {
        Vec::new()
    };
    let tags = if effective.carry.tags { reading.facts.tags.clone() } else { std::collections::BTreeMap::new() };
    if !chapters.is_empty() || !tags.is_empty() {
        let what = format!("{} and {} carried over", count(chapters.len(), "chapter"), count(tags.len(), "tag"));
        journal.note(Subject::Extras, "/carry", DecidedBy::Source, what, "the source has them");
    }
    if let Some(first) = chapters
        .first()
        .filter(|first| first.start.is_positive() && effective.container.traits().chapters == Chapters::FromTheStart)
    {
        let because = format!("in {} the first chapter begins with the file", effective.container.words());
        journal.note(Subject::Extras, "/carry/chapters", DecidedBy::Preset, "a chapter without a name before the first", because);
        chapters.insert(0, Chapter { start: Rational::ZERO, end: first.start, title: String::new() });
    }
    Ok(Plan {
        preset: effective.id.clone(),
        preset_name: effective.name.clone(),
        container: effective.container,
        division,
        picture,
        sound,
        origin: Some(nought.at),
        parts,
        duration,
        speed,
        salvage: effective.salvage,
        source_is_cut: whole.facts.missing.is_some(),
        reel: timecode.as_ref().and(reading.facts.reel.clone()),
        timecode,
        chapters,
        tags,
        decisions: journal.decisions,
    })
}

/// “10:00:10:00 to 10:00:20:00”, in the source's own timecode where it has one.
fn parts_words(parts: &[Span], reading: &Reading) -> String {
    let text = |time| reading.facts.moment_words(time);
    let spans: Vec<String> = parts.iter().map(|part| format!("{} to {}", text(part.from), text(part.to))).collect();
    spans.join(", then ")
}

/// Chapters of what begins at a moment of the source's clock and plays faster by a factor.
fn paced(chapters: &[Chapter], begins: Rational, speed: Rational) -> Vec<Chapter> {
    let at = |time: Rational| {
        let time = (time - begins).max(Rational::ZERO);
        time.divided_by(speed).unwrap_or(time)
    };
    let paced = chapters.iter().map(|chapter| Chapter { start: at(chapter.start), end: at(chapter.end), ..chapter.clone() });
    let mut paced: Vec<Chapter> = paced.filter(|chapter| chapter.start < chapter.end).collect();
    paced.sort_by_key(|chapter| chapter.start);
    paced
}

/// Says where what is made begins, where the source's streams do not begin together.
fn note_start(nought: Origin, picture: &PicturePlan, source: &Reading, journal: &mut Journal) {
    let milliseconds = |time: Rational| format!("{:.0} ms", time.to_f64() * 1e3);
    if nought.lead_frames > 0 {
        let stands = match picture.lead {
            Lead::Hold => "the first frame is held",
            Lead::Black => "black stands",
        };
        let what = format!("{} before the first picture, for which {stands}", count_of(nought.lead_frames, "frame"));
        let lead = source.facts.zero() - nought.at;
        let because = format!("the source's sound begins up to {} before its picture", milliseconds(lead));
        journal.note(Subject::Start, "/picture/lead", DecidedBy::Source, what, because);
    } else if nought.sound_cut > Rational::constant(1, 1000) {
        let what = "at the first picture";
        let because = format!("{} of sound before it, less than a frame, are left out", milliseconds(nought.sound_cut));
        journal.note(Subject::Start, "", DecidedBy::Source, what, because);
    }
    let late = source.facts.sounds().filter_map(|(stream, _)| stream.start).map(|start| start - nought.at).max();
    if let Some(late) = late.filter(|late| nought.lead_frames == 0 && *late > Rational::constant(1, 1000)) {
        let because = format!("the source's sound begins up to {} after its picture", milliseconds(late));
        journal.note(Subject::Start, "", DecidedBy::Source, "silence until the sound begins", because);
    }
}

fn count_of(number: i64, noun: &str) -> String {
    count(usize::try_from(number).unwrap_or(0), noun)
}

fn count(number: usize, noun: &str) -> String {
    format!("{number} {noun}{}", if number == 1 { "" } else { "s" })
}

/// Seconds from where it begins to the end of the last stream that is taken.
fn output_duration(reading: &Reading, begins: Rational, takes: impl Fn(&Stream) -> bool) -> Option<Rational> {
    let ends: Option<Vec<Rational>> = reading
        .facts
        .streams
        .iter()
        .filter(|stream| takes(stream))
        .map(|stream| Some(stream.start.unwrap_or(begins) + stream.duration?))
        .collect();
    let end = ends.and_then(|ends| ends.into_iter().max());
    end.map(|end| end - begins).filter(|length| length.is_positive()).or(reading.facts.duration)
}

/// The timecode of the first frame, `lead` frames of the source before its own first.
fn carried_timecode(
    reading: &Reading,
    lead: i64,
    container: Container,
    rate: FrameRatePlan,
    journal: &mut Journal,
) -> Option<String> {
    let written = reading.facts.timecode.as_ref()?;
    let FrameRatePlan::Constant { rate } = rate else {
        let because = "timecode counts frames, and the rate of the output varies";
        journal.note(Subject::Timecode, "/carry/timecode", DecidedBy::Source, "left out", because);
        return None;
    };
    let source_rate = reading.facts.picture().and_then(|(_, picture)| picture.frame_rate).unwrap_or(rate);
    // Readers of files agree on the rates of ST 12 only.
    let counted = match rate.round() {
        24 | 25 | 30 | 48 | 50 | 60 | 100 | 120 if rate.denominator() == 1 || rate.denominator() == 1001 => Ok(rate),
        _ => Err(TimecodeError::Rate(rate)),
    };
    let carried = counted.and_then(|rate| Timecode::parse(written, source_rate)?.earlier_by(lead).at_rate(rate));
    match carried {
        Ok(timecode) => {
            let text = timecode.to_string();
            let what = format!("{text} {}", container.traits().timecode.words());
            let because = if source_rate == rate {
                "the source begins there".to_owned()
            } else {
                format!("the source begins at {written}; its frames are counted at the new rate")
            };
            journal.note(Subject::Timecode, "/carry/timecode", DecidedBy::Source, what, because);
            Some(text)
        }
        Err(error) => {
            journal.note(Subject::Timecode, "/carry/timecode", DecidedBy::Source, "left out", error.to_string());
            None
        }
    }
}
