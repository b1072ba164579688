//! Making one output and holding it against its plan.

use std::path::Path;
use std::sync::Mutex;

use beryl_core::check::judge;
use beryl_core::plan::Plan;
use beryl_core::problem::Problem;
use beryl_core::protocol::{EncodeRun, Event, FileRef, RunNews, SourceRef};
use beryl_core::rational::Rational;
use beryl_core::reading::{Colour, FieldOrder};
use beryl_media::{Control, RecordedPicture, RecordedSound, Recorder, Recording, encode};
use uuid::Uuid;

pub(crate) fn source(folder: &Path, name: &str) -> SourceRef {
    SourceRef::of(FileRef { root: folder.display().to_string(), path: name.parse().unwrap() })
}

/// What comes of a plan, or what is wrong with it.
pub(crate) fn made(folder: &Path, name: &str, plan: &Plan) -> Result<SourceRef, String> {
    let output = source(folder, &Uuid::now_v7().to_string());
    let run = EncodeRun { id: Uuid::now_v7(), plan: plan.clone(), output: output.file.clone(), aids: Vec::new() };
    let told = Mutex::new(Err("nothing came of it".to_owned()));
    let words = |problem: Problem| format!("{problem} {}", problem.details);
    let ended = encode(&source(folder, name), &[run], folder, &Control::default(), &|event| match event {
        Event::Run { news: RunNews::Written { measured }, .. } => {
            let report = judge(plan, &measured);
            let wrong: Vec<String> =
                report.wrong().map(|item| format!("{}: {}, not {}", item.what, item.found, item.expected)).collect();
            *told.lock().unwrap() = if wrong.is_empty() { Ok(()) } else { Err(wrong.join("; ")) };
        }
        Event::Run { news: RunNews::Failed { problem }, .. } => *told.lock().unwrap() = Err(words(problem)),
        _ => {}
    });
    ended.map_err(words)?;
    told.into_inner().unwrap().map(|()| output)
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

/// Two seconds of picture that becomes brighter, and of steady sound in two streams.
pub(crate) fn record(path: &Path, format: &'static str, picture: &'static str, sound: &'static str) {
    let picture = RecordedPicture {
        encoder: picture,
        options: vec![],
        pixel_format: "yuv420p",
        width: 64,
        height: 64,
        pixel_aspect: Rational::ONE,
        clock: Rational::constant(1, 25),
        rate: Rational::whole(25),
        fields: FieldOrder::Progressive,
        colour: Colour::default(),
    };
    let sound = RecordedSound { encoder: sound, sample_rate: 48_000, channels: 1, language: None };
    let recording = Recording { format, picture: Some(picture), sounds: vec![sound.clone(), sound], ..Recording::default() };
    let mut recorder = Recorder::begin(path, &recording).unwrap();
    for frame in 0..50_u8 {
        recorder.picture(&[frame * 4; 64 * 64 * 3], frame.into(), 1).unwrap();
        for stream in 0..2 {
            recorder.sound(stream, &[0.1; 1920]).unwrap();
        }
    }
    recorder.finish().unwrap();
}
