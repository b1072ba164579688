//! Making one output and holding it against its plan.

use std::path::Path;
use std::sync::Mutex;

use beryl_core::after::check::judge;
use beryl_core::picture::{Colour, FieldOrder};
use beryl_core::plan::Plan;
use beryl_core::problem::Problem;
use beryl_core::protocol::{EncodeRun, Event, FileRef, RunNews, SourceRef};
use beryl_core::time::Rational;
use beryl_core::timeline::Remark;
use beryl_media::{Control, RecordedPicture, RecordedSound, Recorder, Recording, Stamping, encode};
use uuid::Uuid;

pub(crate) fn source(folder: &Path, name: &str) -> SourceRef {
    SourceRef::of(FileRef::within(folder.display().to_string(), name.parse().unwrap()))
}

/// What comes of a plan, or what is wrong with it.
pub(crate) fn made(folder: &Path, name: &str, plan: &Plan) -> Result<SourceRef, String> {
    made_with_remarks(folder, name, plan).map(|(output, _)| output)
}

/// The same, with what was remarked.
pub(crate) fn made_with_remarks(folder: &Path, name: &str, plan: &Plan) -> Result<(SourceRef, Vec<Remark>), String> {
    let output = source(folder, &Uuid::now_v7().to_string());
    let run = EncodeRun { id: Uuid::now_v7(), plan: plan.clone(), outputs: vec![output.file.clone()], assets: Vec::new() };
    let told = Mutex::new(Err("nothing came of it".to_owned()));
    let words = |problem: Problem| format!("{problem} {}", problem.details);
    let ended = encode(&source(folder, name), &[run], folder, &Control::default(), &|event| match event {
        Event::Run { news: RunNews::Written { measured }, .. } => {
            let report = judge(plan, &measured);
            let wrong: Vec<String> =
                report.wrong().map(|item| format!("{}: {}, not {}", item.what, item.found, item.expected)).collect();
            *told.lock().unwrap() = if wrong.is_empty() { Ok(measured[0].remarks.clone()) } else { Err(wrong.join("; ")) };
        }
        Event::Run { news: RunNews::Failed { problem }, .. } => *told.lock().unwrap() = Err(words(problem)),
        _ => {}
    });
    ended.map_err(words)?;
    told.into_inner().unwrap().map(|remarks| (output, remarks))
}

/// What is wrong with what comes of a plan, if anything. The file goes.
pub(crate) fn fault(folder: &Path, name: &str, plan: &Plan) -> Option<String> {
    let output = match made(folder, name, plan) {
        Ok(output) => output,
        Err(told) => return Some(told),
    };
    std::fs::remove_file(folder.join(output.file.path.to_string())).unwrap();
    None
}

/// A recording of two seconds: a picture that becomes brighter, and steady sound.
pub(crate) struct Recorded {
    pub(crate) format: &'static str,
    /// The encoder of the picture; none where it is empty.
    pub(crate) picture: &'static str,
    pub(crate) pixel_format: &'static str,
    pub(crate) size: (u32, u32),
    pub(crate) rate: (i64, i64),
    /// The encoder of the sound; none where it is empty.
    pub(crate) sound: &'static str,
    /// How many streams of it.
    pub(crate) sounds: usize,
    /// Where moments of picture and sound are stamped.
    pub(crate) stamps: Stamping,
    pub(crate) sound_stamps: Stamping,
    /// A line of subtitles, from when to when on the file's clock, in milliseconds.
    pub(crate) subtitle: Option<(i64, i64)>,
}

impl Default for Recorded {
    fn default() -> Self {
        Self {
            format: "matroska",
            picture: "ffv1",
            pixel_format: "yuv420p",
            size: (64, 64),
            rate: (25, 1),
            sound: "pcm_s16le",
            sounds: 2,
            stamps: |time| time,
            sound_stamps: |time| time,
            subtitle: None,
        }
    }
}

impl Recorded {
    pub(crate) fn record(&self, path: &Path) {
        let has_picture = !self.picture.is_empty();
        let picture = RecordedPicture {
            encoder: self.picture,
            options: if self.picture == "dnxhd" { vec![("profile", "dnxhr_sq")] } else { vec![] },
            pixel_format: self.pixel_format,
            width: self.size.0,
            height: self.size.1,
            pixel_aspect: Rational::ONE,
            clock: Rational::constant(self.rate.1, self.rate.0),
            rate: Rational::constant(self.rate.0, self.rate.1),
            fields: FieldOrder::Progressive,
            colour: Colour::default(),
        };
        let sound = RecordedSound { encoder: self.sound, sample_rate: 48_000, channels: 1, language: None };
        let sounds = vec![sound; if self.sound.is_empty() { 0 } else { self.sounds }];
        let streams = sounds.len();
        let subtitles = if self.subtitle.is_some() { vec!["eng"] } else { vec![] };
        let picture = Some(picture).filter(|_| has_picture);
        let recording = Recording { format: self.format, picture, sounds, subtitles, ..Recording::default() };
        let mut recorder = Recorder::begin(path, &recording).unwrap();
        if has_picture {
            recorder.stamp(0, self.stamps);
        }
        (0..streams).for_each(|number| recorder.stamp(usize::from(has_picture) + number, self.sound_stamps));
        if let Some((from, to)) = self.subtitle {
            recorder.subtitle(0, from, to, "Kiln").unwrap();
        }
        for frame in 0..50_u8 {
            let samples = 3 * self.size.0 * self.size.1;
            if has_picture {
                recorder.picture(&vec![frame * 4; samples as usize], frame.into(), 1).unwrap();
            }
            for stream in 0..streams {
                recorder.sound(stream, &[0.1; 1920]).unwrap();
            }
        }
        recorder.finish().unwrap();
    }
}
