//! Holding a finished file against its plan. The engine measures, this module judges.
//!
//! Each point has a [`Grade`]. What is *wrong* keeps a file from its name; what is *noted* is only different:
//! the source did not give it, or no container can carry it to the tick. What is expected comes from the plan
//! and, where counts and lengths are concerned, from the clock on which the engine worked: what really went
//! into the encoders ([`Given`]), not what headers promised.

mod differences;
mod picture;
mod sound;
mod timing;

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::facts::{Content, Facts, Stream};
use crate::plan::Plan;
use crate::problem::{Problem, ProblemKind};
use crate::time::Rational;
use crate::timeline::Remark;
use crate::units::ByteSize;

pub use differences::compare;

/// What was found in a finished file by reading it back, and what was counted while writing it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Measured {
    /// The facts of the file.
    pub facts: Facts,
    /// Whether the index stands before the media, for formats that have one.
    pub index_in_front: Option<bool>,
    /// What each stream's packets say.
    pub streams: Vec<StreamMeasure>,
    /// Frames that went into the picture encoder.
    pub frames_encoded: Option<u64>,
    /// What went into the encoder of each stream that was encoded.
    #[serde(default)]
    pub given: Vec<Given>,
    /// Moments at which the file was looked at and held against what went into the encoder.
    #[serde(default)]
    pub looks: Vec<Look>,
    /// What the source's timeline was like where it was not plain.
    #[serde(default)]
    pub remarks: Vec<Remark>,
    /// Faults that the decoder met in the source.
    pub decode_faults: u64,
    /// Seconds up to which the source's picture could be read, from the beginning of what is made.
    pub source_end: Option<Rational>,
    /// Milliseconds of processor time that making it took, what it shared with others counted in full.
    #[serde(default)]
    pub cpu_milliseconds: Option<u64>,
}

/// What went into an encoder.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Given {
    /// The place of the stream in the output: the picture first, then the sound streams in the order of the plan.
    pub slot: u32,
    /// How many frames of picture, or samples of sound.
    pub count: u64,
    /// Seconds at which the last of them ends.
    pub end: Rational,
}

/// A moment at which two pictures that should be alike were held against each other.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Look {
    /// Which pictures.
    pub at: LookAt,
    /// Seconds from the beginning of what was made.
    pub time: Rational,
    /// The mean difference of small areas, in thousandths of full scale; nothing where one of them is missing.
    pub difference: Option<u32>,
}

/// Which pictures were held against each other.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum LookAt {
    /// A picture of the source as it was decoded on the way, and the same one decoded by itself.
    Source,
    /// A picture as it went into the encoder, and as it is in the file.
    File,
}

/// What the packets of one stream say.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct StreamMeasure {
    /// The stream.
    pub index: u32,
    /// How many packets are shown (edit lists and priming regarded).
    pub packets: u64,
    /// Seconds at which the first picture or sample is shown.
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
    /// The most packets from one key frame to the next.
    #[serde(default)]
    pub longest_group: u64,
    /// The most bytes within one second.
    #[serde(default)]
    pub peak_second: ByteSize,
}

/// What a difference means.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Grade {
    /// As planned.
    Fine,
    /// Different, and worth knowing; the file is good.
    Noted,
    /// Not what was asked for: the file is withheld.
    Wrong,
}

/// One thing that was held against the plan.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(from = "StoredItem")]
pub struct CheckItem {
    /// What was looked at.
    pub what: String,
    /// What the plan says.
    pub expected: String,
    /// What the file has.
    pub found: String,
    /// What that means.
    pub grade: Grade,
    /// Why a difference is only noted.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub why: String,
}

/// A point as it was stored, also by versions that knew only passed and not passed.
#[derive(Deserialize)]
struct StoredItem {
    what: String,
    expected: String,
    found: String,
    grade: Option<Grade>,
    passed: Option<bool>,
    #[serde(default)]
    why: String,
}

impl From<StoredItem> for CheckItem {
    fn from(stored: StoredItem) -> Self {
        let by_passing = if stored.passed == Some(false) { Grade::Wrong } else { Grade::Fine };
        let StoredItem { what, expected, found, grade, why, .. } = stored;
        Self { what, expected, found, grade: grade.unwrap_or(by_passing), why }
    }
}

/// The verdict on a file.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct CheckReport {
    /// Whether nothing is wrong.
    pub passed: bool,
    /// The file's size.
    pub size: ByteSize,
    /// Each point.
    pub items: Vec<CheckItem>,
    /// What is worth knowing although the file is as planned.
    pub remarks: Vec<String>,
}

impl CheckReport {
    /// The points that are noted.
    pub fn noted(&self) -> impl Iterator<Item = &CheckItem> {
        self.items.iter().filter(|item| item.grade == Grade::Noted)
    }

    /// The points that are wrong.
    pub fn wrong(&self) -> impl Iterator<Item = &CheckItem> {
        self.items.iter().filter(|item| item.grade == Grade::Wrong)
    }

    /// How many things a person should know of: noted points and remarks.
    #[must_use]
    pub fn notes(&self) -> usize {
        self.noted().count() + self.remarks.len()
    }
}

/// What the container can say of time: one millisecond is asked for.
const MILLISECOND: Rational = Rational::constant(1, 1000);

/// Collects points.
struct Judge {
    items: Vec<CheckItem>,
}

impl Judge {
    fn add(&mut self, what: impl Into<String>, expected: impl ToString, found: impl ToString, grade: Grade, why: &str) {
        let (expected, found) = (expected.to_string(), found.to_string());
        let why = if grade == Grade::Noted { why.to_owned() } else { String::new() };
        self.items.push(CheckItem { what: what.into(), expected, found, grade, why });
    }

    /// A point that is fine or wrong.
    fn item(&mut self, what: impl Into<String>, expected: impl ToString, found: impl ToString, passed: bool) {
        self.add(what, expected, found, if passed { Grade::Fine } else { Grade::Wrong }, "");
    }

    /// A point that is fine or noted.
    fn note(&mut self, what: impl Into<String>, expected: impl ToString, found: impl ToString, passed: bool, why: &str) {
        self.add(what, expected, found, if passed { Grade::Fine } else { Grade::Noted }, why);
    }

    fn equal<T: PartialEq + ToString>(&mut self, what: impl Into<String>, expected: T, found: T) {
        let passed = expected == found;
        self.item(what, expected, found, passed);
    }
}

/// Holds what was measured in each file of an output, in the order of the plan's artifacts, against the plan.
#[must_use]
pub fn judge(plan: &Plan, measured: &[Measured]) -> CheckReport {
    let artifacts = plan.artifacts();
    let mut report = CheckReport { passed: true, size: ByteSize(0), items: Vec::new(), remarks: Vec::new() };
    let mut whole = Judge { items: Vec::new() };
    if artifacts.len() > 1 || measured.len() != 1 {
        whole.equal("files", artifacts.len(), measured.len());
    }
    report.items.append(&mut whole.items);
    for (artifact, measured) in artifacts.iter().zip(measured) {
        let of_file = judge_file(&artifact.plan(plan), measured);
        let named = |item: CheckItem| match artifact.words() {
            Some(words) => CheckItem { what: format!("{words}: {}", item.what), ..item },
            None => item,
        };
        report.items.extend(of_file.items.into_iter().map(named));
        report.size = ByteSize(report.size.0 + of_file.size.0);
        // What is said of the source stands once.
        report.remarks.extend(of_file.remarks.into_iter().filter(|remark| !report.remarks.contains(remark)).collect::<Vec<_>>());
    }
    report.passed = report.items.iter().all(|item| item.grade != Grade::Wrong);
    report
}

/// The same of one file; the plan yields no other.
fn judge_file(plan: &Plan, measured: &Measured) -> CheckReport {
    let mut judge = Judge { items: Vec::new() };
    judge_container(plan, measured, &mut judge);
    picture::judge(plan, measured, &mut judge);
    sound::judge(plan, measured, &mut judge);
    timing::judge(plan, measured, &mut judge);
    if let Some(timecode) = &plan.timecode {
        let found = measured.facts.timecode.clone().unwrap_or_else(|| "none".to_owned());
        judge.equal("timecode", timecode.clone(), found);
    }
    judge_extras(plan, measured, &mut judge);
    let passed = judge.items.iter().all(|item| item.grade != Grade::Wrong);
    let remarks = measured.remarks.iter().map(Remark::words).collect();
    CheckReport { passed, size: measured.facts.size, items: judge.items, remarks }
}

fn judge_container(plan: &Plan, measured: &Measured, judge: &mut Judge) {
    let container = plan.container.traits();
    let found = measured.facts.container.split(',').next().unwrap_or_default();
    judge.equal("container", container.probe_name, found);
    judge.item("size", "more than nothing", measured.facts.size, measured.facts.size > ByteSize(0));
    if container.index_in_front {
        let words = |front: bool| if front { "in front" } else { "at the end" };
        judge.equal("index", words(true), words(measured.index_in_front == Some(true)));
    }
}

/// Chapters and tags.
fn judge_extras(plan: &Plan, measured: &Measured, judge: &mut Judge) {
    if !plan.container.traits().keeps_tags {
        return;
    }
    let found = &measured.facts.chapters;
    judge.equal("chapters", plan.chapters.len(), found.len());
    // Players round to the millisecond.
    let near = |one: Rational, other: Rational| (one - other).abs() <= MILLISECOND;
    let moved = plan.chapters.iter().zip(found).filter(|(planned, found)| !near(planned.start, found.start)).count();
    if !plan.chapters.is_empty() {
        judge.item("places of chapters", "as planned", if moved == 0 { "as planned" } else { "elsewhere" }, moved == 0);
    }
    if let Some(title) = plan.tags.get("title") {
        let found = measured.facts.tags.get("title").map_or("none", String::as_str);
        judge.note("title", title, found, title == found, "the format has another form for it");
    }
}

fn streams_of(measured: &Measured, wanted: fn(&Content) -> bool) -> Vec<(&Stream, Option<&StreamMeasure>)> {
    let measure = |index| measured.streams.iter().find(|stream| stream.index == index);
    let streams = measured.facts.streams.iter().filter(move |stream| wanted(&stream.content));
    streams.map(|stream| (stream, measure(stream.index))).collect()
}

fn is_moving_picture(content: &Content) -> bool {
    matches!(content, Content::Picture(picture) if !picture.still)
}

const fn is_sound(content: &Content) -> bool {
    matches!(content, Content::Sound(_))
}

/// What went into the encoder of the stream in this place of the output.
fn given_to(measured: &Measured, slot: usize) -> Option<&Given> {
    measured.given.iter().find(|given| given.slot as usize == slot)
}

fn seconds_text(seconds: Rational) -> String {
    format!("{:.3} s", seconds.to_f64())
}

/// What a report that was not passed means for a person; nothing for one that was.
#[must_use]
pub fn problem_of(plan: &Plan, measured: &[Measured], report: &CheckReport) -> Option<Problem> {
    if report.passed {
        return None;
    }
    // A source that ends early makes a file that is too short: the source is to be named, not the file.
    let artifacts = plan.artifacts();
    let mut losses =
        artifacts.iter().zip(measured).filter_map(|(artifact, measured)| timing::loss(&artifact.plan(plan), measured));
    if let Some(loss) = losses.find(|loss| loss.broken) {
        let why =
            format!("it should last {} and could be read up to {} only", seconds_text(loss.planned), seconds_text(loss.read));
        return Some(
            Problem::new(ProblemKind::CutShort, "the source ends too early", why)
                .with_next("Copy the file again, or set salvage for it: then all that can be decoded is made."),
        );
    }
    let wrong: Vec<String> =
        report.wrong().map(|item| format!("{} is {} instead of {}", item.what, item.found, item.expected)).collect();
    Some(Problem::new(ProblemKind::CheckFailed, format!("{} is not as planned", plan.preset_name), wrong.join("; ")))
}
