//! What picture steps need beside the pictures: tables, other pictures, a font, subtitles. All of it is
//! brought into a folder of the job's own, so that no filter opens anything else.

use std::collections::BTreeMap;
use std::io::Read;
use std::path::{Path, PathBuf};

use beryl_core::lut::{FENMARK_LOG, LARGEST_DOCUMENT, Lut, LutShape, fenmark_to_rec709};
use beryl_core::plan::{AssetName, Step};
use beryl_core::problem::{Problem, ProblemKind};
use beryl_core::protocol::{Asset, SourceRef};
use beryl_core::time::{Rational, Span, TimeMap};

use crate::raw::{Decoder, Frame, Kind, Stop, SubtitleDecoder};
use crate::source::{PacketSource, open_file, open_root, problem_of};

/// The font of everything that is written into pictures.
const FONT: &[u8] = include_bytes!("../fonts/jetbrains-mono-latin-500.woff2");

/// What picture steps need beside the pictures.
#[derive(Default)]
pub(crate) struct Supplies {
    /// Tables by their names: where they are, and whether they are cubes.
    luts: BTreeMap<String, (PathBuf, bool)>,
    pictures: BTreeMap<String, Frame>,
    font: Option<PathBuf>,
    /// Subtitles by the step that wants them.
    subtitles: Vec<(Step, PathBuf)>,
    /// The name of the source, for people.
    name: String,
}

impl Supplies {
    /// Brings what these steps of a source need into `folder`. Their pictures count from `origin`, seconds of the
    /// source's clock; from its first picture where there is none.
    pub(crate) fn prepare<'a>(
        source: &SourceRef,
        origin: Option<Rational>,
        steps: impl Iterator<Item = &'a Step>,
        assets: &[Asset],
        folder: &Path,
    ) -> Result<Self, Problem> {
        let mut supplies = Self::of(source);
        supplies.add(source, origin, steps, assets, folder)?;
        Ok(supplies)
    }

    /// Nothing yet.
    pub(crate) fn of(source: &SourceRef) -> Self {
        Self { name: source.file.path.name(), ..Self::default() }
    }

    /// Brings into `folder` what these steps need besides.
    pub(crate) fn add<'a>(
        &mut self,
        source: &SourceRef,
        origin: Option<Rational>,
        steps: impl Iterator<Item = &'a Step>,
        assets: &[Asset],
        folder: &Path,
    ) -> Result<(), Problem> {
        let folder =
            std::path::absolute(folder).map_err(|error| Problem::from_io("the job's folder could not be found", &error))?;
        for step in steps {
            match step.asset() {
                Some(AssetName::Lut(name)) if !self.luts.contains_key(name) => {
                    let lut = table(name, assets)?;
                    let file = write(&folder, &format!("table-{}.cube", self.luts.len()), lut.to_text().as_bytes())?;
                    self.luts.insert(name.to_owned(), (file, matches!(lut.shape, LutShape::Cube(_))));
                }
                Some(AssetName::Picture(name)) if !self.pictures.contains_key(name) => {
                    self.pictures.insert(name.to_owned(), picture(name, assets)?);
                }
                Some(AssetName::Lut(_) | AssetName::Picture(_)) | None => {}
            }
            if matches!(step, Step::BurnIn(_) | Step::Subtitles { .. }) && self.font.is_none() {
                self.font = Some(write(&folder, "text.woff2", FONT)?);
            }
            if let Step::Subtitles { stream, parts, speed, .. } = step
                && self.subtitles.iter().all(|(other, _)| other != step)
            {
                let document = subtitles(source, origin, (*stream, parts, *speed))?;
                let file = write(&folder, &format!("subtitles-{}.ass", self.subtitles.len()), document.as_bytes())?;
                self.subtitles.push((step.clone(), file));
            }
        }
        Ok(())
    }

    pub(crate) fn lut(&self, name: &str) -> Option<(&Path, bool)> {
        self.luts.get(name).map(|(file, is_cube)| (file.as_path(), *is_cube))
    }

    pub(crate) fn picture(&self, name: &str) -> Option<&Frame> {
        self.pictures.get(name)
    }

    pub(crate) fn font(&self) -> Option<&Path> {
        self.font.as_deref()
    }

    pub(crate) fn subtitles(&self, step: &Step) -> Option<&Path> {
        self.subtitles.iter().find(|(other, _)| other == step).map(|(_, file)| file.as_path())
    }

    pub(crate) fn name(&self) -> &str {
        &self.name
    }
}

fn write(folder: &Path, name: &str, bytes: &[u8]) -> Result<PathBuf, Problem> {
    let file = folder.join(name);
    std::fs::write(&file, bytes).map_err(|error| Problem::from_io("what the picture steps need could not be written", &error))?;
    Ok(file)
}

fn asset<'a>(name: &str, what: &str, assets: &'a [Asset]) -> Result<&'a Asset, Problem> {
    assets.iter().find(|asset| asset.name == name).ok_or_else(|| {
        Problem::new(ProblemKind::Missing, format!("the {what} {name} could not be used"), "there is none of this name")
            .with_next("Add it in the settings, or choose another.")
    })
}

/// Reads a look-up table.
///
/// # Errors
/// A [`Problem`] where it cannot be read or is none.
fn table(name: &str, assets: &[Asset]) -> Result<Lut, Problem> {
    if name == FENMARK_LOG {
        return Ok(fenmark_to_rec709());
    }
    let asset = asset(name, "table", assets)?;
    let what = || format!("the table {name} could not be used");
    let (file, size) = open_file(&open_root(&asset.file)?, &asset.file.path)?;
    if size > LARGEST_DOCUMENT as u64 {
        return Err(Problem::new(ProblemKind::Invalid, what(), beryl_core::lut::LutError::TooLarge.to_string()));
    }
    let mut bytes = Vec::new();
    file.take(LARGEST_DOCUMENT as u64 + 1).read_to_end(&mut bytes).map_err(|error| Problem::from_io(what(), &error))?;
    Lut::parse(&String::from_utf8_lossy(&bytes)).map_err(|error| Problem::new(ProblemKind::Invalid, what(), error.to_string()))
}

/// The first picture of a file.
fn picture(name: &str, assets: &[Asset]) -> Result<Frame, Problem> {
    let asset = asset(name, "picture", assets)?;
    let what = || format!("the picture {name} could not be used");
    let source = SourceRef::of(asset.file.clone());
    let mut packets = PacketSource::open(&source, &Stop::default())?;
    let none = || Problem::new(ProblemKind::Unsupported, what(), "it holds no picture");
    // Still pictures are attachments to some formats and moving pictures to others.
    let stream = packets.input().streams().find(|stream| stream.kind() != Kind::Sound).ok_or_else(none)?;
    let mut decoder = Decoder::open(stream, Some(1)).map_err(|error| none().with_details(error.to_string()))?;
    let index = stream.index();
    loop {
        let packet = packets.read().map_err(|error| problem_of(name, &error))?;
        if packet.as_ref().is_some_and(|packet| packet.stream() != index) {
            continue;
        }
        drop(decoder.send(packet.as_ref()));
        if let Ok(Some(frame)) = decoder.receive() {
            return Ok(frame);
        }
        if packet.is_none() {
            return Err(none());
        }
    }
}

/// How long a subtitle is shown where nothing says, in seconds.
const USUAL_LENGTH: Rational = Rational::whole(4);

/// The subtitles of a stream as an ASS document in the time of the output.
fn subtitles(
    source: &SourceRef,
    origin: Option<Rational>,
    (stream, parts, speed): (u32, &[Span], Rational),
) -> Result<String, Problem> {
    let mut packets = PacketSource::open(source, &Stop::default())?;
    let name = packets.name().to_owned();
    let index = stream as usize;
    let unreadable =
        |why: &str| Problem::new(ProblemKind::Unsupported, format!("the subtitles of {name} could not be read"), why);
    if index >= packets.input().stream_count() {
        return Err(unreadable("it does not have the stream any more"));
    }
    let (clock, zero) = (packets.clock(index), origin.unwrap_or_else(|| packets.zero()));
    let mut decoder = SubtitleDecoder::open(packets.stream(index))
        .map_err(|error| unreadable("no decoder here can read them").with_details(error.to_string()))?;
    // Where the clock jumps, it is the picture that shows it.
    if source.clock.anchors.is_empty() {
        packets.keep_only(&[index]);
    }
    let mut document = decoder.head().replace("Arial", "JetBrains Mono");
    if !document.contains("[Events]") {
        return Err(unreadable("they are pictures, not text"));
    }
    if !document.ends_with('\n') {
        document.push('\n');
    }
    let mut lines = Vec::new();
    while let Some(packet) = packets.read().map_err(|error| problem_of(&name, &error))? {
        if packet.stream() == index {
            lines.extend(decoder.decode(&packet, clock));
        }
    }
    for line in lines {
        let from = Rational::whole(line.from) * clock - zero;
        let length = line.length.map_or(USUAL_LENGTH, |length| Rational::whole(length) * clock);
        let shown = Span { from, to: from + length };
        for span in TimeMap::new(parts, speed).shown(shown) {
            let (from, to) = (ass_time(span.from), ass_time(span.to));
            document.push_str(&format!("Dialogue: 0,{from},{to},{}\n", line.fields.trim_end()));
        }
    }
    Ok(document)
}

/// `H:MM:SS.CC`, as ASS has it.
fn ass_time(time: Rational) -> String {
    let hundredths = (time * Rational::whole(100)).round().max(0);
    let seconds = hundredths / 100;
    format!("{}:{:02}:{:02}.{:02}", seconds / 3600, seconds / 60 % 60, seconds % 60, hundredths % 100)
}
