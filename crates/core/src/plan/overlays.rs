//! What is laid over the picture.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::build::Journal;
use super::{Origin, Step, Subject};
use crate::facts::{Content, Facts, Stream};
use crate::picture::Samples;
use crate::preset::{BurntSubtitles, Corner, Overlays};
use crate::time::{FromFirst, OutputTime, Rational, Span, TimeMap, Timecode, duration_text, moment_text};

/// Text in the picture, which goes by the source's time.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
pub struct BurnText {
    /// The timecode of the source's first frame, where timecode is written.
    pub timecode: Option<String>,
    /// Whether the number of the frame is written.
    pub frame: bool,
    /// Whether the file's name is written.
    pub name: bool,
    /// Frames of the source a second.
    pub rate: Rational,
    /// The parts of the source that are taken, in seconds from its first frame; all where there are none.
    pub parts: Vec<Span>,
    /// By what factor it plays faster.
    pub speed: Rational,
    /// Whether it stands above.
    pub above: bool,
    /// Lines of the picture that a line of text takes.
    pub height: u32,
    /// The form of the pictures.
    pub onto: Samples,
}

impl BurnText {
    /// What is written at a moment of the output, in a file of this name.
    #[must_use]
    pub fn at(&self, moment: OutputTime, name: &str) -> String {
        let FromFirst(source) = TimeMap::new(&self.parts, self.speed).source(moment);
        // A frame's time may be rounded by the clock of its file.
        let frame = (source * self.rate + Rational::constant(1, 4)).floor().max(0);
        let mut words = Vec::new();
        if let Some(start) = &self.timecode {
            let frames = u64::try_from(frame).unwrap_or(0);
            words.push(match Timecode::parse(start, self.rate) {
                Ok(start) => start.later_by(frames).to_string(),
                Err(_) => moment_text(source),
            });
        }
        if self.name {
            words.push(name.to_owned());
        }
        if self.frame {
            words.push((frame + 1).to_string());
        }
        words.join("  ")
    }
}

/// A picture laid over.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
pub struct WatermarkPlan {
    /// Its name.
    pub picture: String,
    /// Where it stands.
    pub place: Corner,
    /// Columns it takes.
    pub width: u32,
    /// Columns and lines from the borders.
    pub margin: u32,
    /// How much of it covers, in percent.
    pub opacity: u8,
    /// The form of the pictures it is laid over.
    pub onto: Samples,
}

/// The steps that lay something over pictures of this size and form.
pub(super) fn steps(
    settings: &Overlays,
    ((width, height), onto): ((u32, u32), &Samples),
    speed: Rational,
    parts: &[Span],
    facts: &Facts,
    journal: &mut Journal,
) -> Vec<Step> {
    let mut steps = Vec::new();
    let mut say = |setting, what: String, because: &str| journal.note(Subject::Overlays, setting, Origin::Preset, what, because);
    let share = |of: u32, percent: u8| (of * u32::from(percent)).div_ceil(100);
    let wanted = match &settings.subtitles {
        BurntSubtitles::Never => None,
        BurntSubtitles::First => Some(None),
        BurntSubtitles::Language { language } => Some(Some(language.as_str())),
    };
    if let Some(language) = wanted {
        let holds = |are_pictures| {
            let meant = move |stream: &&Stream| {
                stream.content == Content::Subtitles { are_pictures }
                    && language.is_none_or(|language| stream.language.as_deref() == Some(language))
            };
            facts.streams.iter().find(meant)
        };
        let found = holds(false);
        match found {
            Some(stream) => {
                let of = stream.language.as_deref().map_or_else(String::new, |language| format!(" ({language})"));
                say("/picture/overlays/subtitles", format!("subtitles burnt in{of}"), "the preset asks for it");
                steps.push(Step::Subtitles { stream: stream.index, parts: parts.to_vec(), speed, onto: onto.clone() });
            }
            None => {
                let why = match holds(true) {
                    Some(_) => "the source has them as pictures, and only text can be burnt in",
                    None => "the source has none of this kind",
                };
                say("/picture/overlays/subtitles", "no subtitles burnt in".to_owned(), why);
            }
        }
    }
    let burn = settings.burn_in;
    if burn.is_wanted() {
        let rate = facts.picture().and_then(|(_, picture)| picture.frame_rate).unwrap_or(Rational::whole(25));
        let start = facts.timecode.clone().unwrap_or_else(|| duration_text(Rational::ZERO, rate));
        let named = [(burn.timecode, "timecode"), (burn.name, "name"), (burn.frame, "frame number")];
        let words: Vec<&str> = named.iter().filter(|(wanted, _)| *wanted).map(|(_, word)| *word).collect();
        say("/picture/overlays/burn_in", format!("{} of the source burnt in", words.join(", ")), "the preset asks for it");
        steps.push(Step::BurnIn(BurnText {
            timecode: burn.timecode.then_some(start),
            frame: burn.frame,
            name: burn.name,
            rate,
            parts: parts.to_vec(),
            speed,
            above: burn.above,
            height: share(height, burn.height).max(8),
            onto: onto.clone(),
        }));
    }
    if let Some(mark) = &settings.watermark {
        say("/picture/overlays/watermark", format!("watermark {}, {} %", mark.picture, mark.opacity), "the preset asks for it");
        steps.push(Step::Watermark(WatermarkPlan {
            picture: mark.picture.clone(),
            place: mark.place,
            width: share(width, mark.width).max(2),
            margin: share(width, mark.margin),
            opacity: mark.opacity,
            onto: onto.clone(),
        }));
    }
    steps
}
