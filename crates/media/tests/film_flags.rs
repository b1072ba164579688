//! Film with flags that ask for repeated fields (ISO/IEC 13818-2, 6.3.10), in a program stream as discs have it.

// Helpers of tests fail loudly.
#![allow(clippy::unwrap_used, clippy::cast_possible_truncation, clippy::cast_possible_wrap, clippy::cast_sign_loss)]

use std::path::{Path, PathBuf};
use std::sync::Mutex;

use beryl_core::after::check::judge;
use beryl_core::findings::FieldsVerdict;
use beryl_core::picture::{Colour, FieldOrder};
use beryl_core::plan::plan_with as plan;
use beryl_core::preset::builtin;
use beryl_core::protocol::{Answer, EncodeRun, Event, FileRef, RunNews, SourceRef};
use beryl_core::reading::Reading;
use beryl_core::time::Rational;
use beryl_media::{Control, RecordedPicture, Recorder, Recording, encode, probe, scan, timed_pictures};
use serde_json::json;
use uuid::Uuid;

const WIDTH: u32 = 320;
/// Frames of such streams are coded in pairs of sixteen lines.
const HEIGHT: u32 = 256;
const FILM: Rational = Rational::constant(24_000, 1001);
/// Ticks of 90 kHz in half a frame of video.
const FIELD: u64 = 90_000 * 1001 / 60_000;
const FRAMES: usize = 240;
const DIGITS: usize = 8;

/// A picture that tells its number in black and white columns.
fn numbered(number: usize) -> Vec<u8> {
    let column = WIDTH as usize / DIGITS;
    let line = (0..WIDTH as usize).flat_map(|x| {
        let is_white = number >> (x / column).min(DIGITS - 1) & 1 == 1;
        [if is_white { 220 } else { 30 }; 3]
    });
    let line: Vec<u8> = line.collect();
    line.repeat(HEIGHT as usize)
}

fn number_of(luma: &[u8], width: usize) -> usize {
    let line = &luma[luma.len() / 2 / width * width..][..width];
    let column = width / DIGITS;
    (0..DIGITS).filter(|digit| line[digit * column + column / 2] > 128).map(|digit| 1 << digit).sum()
}

/// Film as an elementary stream of MPEG-2, a picture every 24000/1001 s.
fn film(folder: &Path) -> Vec<u8> {
    let path = folder.join("film.m2v");
    let recording = Recording {
        format: "mpeg2video",
        picture: Some(RecordedPicture {
            encoder: "mpeg2video",
            options: vec![("g", "12"), ("bf", "0"), ("b", "4000000")],
            pixel_format: "yuv420p",
            width: WIDTH,
            height: HEIGHT,
            pixel_aspect: Rational::ONE,
            clock: FILM.inverse().unwrap(),
            rate: FILM,
            fields: FieldOrder::Progressive,
            colour: Colour::default(),
        }),
        ..Recording::default()
    };
    let mut recorder = Recorder::begin(&path, &recording).unwrap();
    for frame in 0..FRAMES {
        recorder.picture(&numbered(frame), frame as i64, 1).unwrap();
    }
    recorder.finish().unwrap();
    std::fs::read(path).unwrap()
}

/// The pictures of an elementary stream, each with the headers before it.
fn pictures(stream: &[u8]) -> Vec<Vec<u8>> {
    let code = |at: usize| stream.get(at..at + 4).filter(|code| code.starts_with(&[0, 0, 1])).map(|code| code[3]);
    let mut starts = Vec::new();
    let mut open = false;
    for at in 0..stream.len() - 3 {
        match code(at) {
            Some(0xB3 | 0xB8 | 0x00) if !open => {
                starts.push(at);
                open = true;
            }
            // The first slice: what comes after the slices belongs to the next picture.
            Some(0x01) => open = false,
            _ => {}
        }
    }
    starts.push(stream.len());
    starts.windows(2).map(|pair| stream[pair[0]..pair[1]].to_vec()).collect()
}

/// Makes film that a player shows as video: every second picture has one field shown again.
fn flagged(picture: &mut [u8], number: usize) {
    for at in 0..picture.len().saturating_sub(9) {
        match picture[at..at + 5] {
            // The sequence: 30000/1001 frames a second …
            [0, 0, 1, 0xB3, _] => picture[at + 7] = picture[at + 7] & 0xF0 | 4,
            // … of which not all are whole.
            [0, 0, 1, 0xB5, extension] if extension >> 4 == 1 => picture[at + 5] &= !0x08,
            [0, 0, 1, 0xB5, extension] if extension >> 4 == 8 => {
                let (top_first, repeats) = [(true, true), (false, false), (false, true), (true, false)][number % 4];
                picture[at + 7] = picture[at + 7] & !0x82 | u8::from(top_first) << 7 | u8::from(repeats) << 1;
            }
            _ => {}
        }
    }
}

/// A program stream (ISO/IEC 13818-1, 2.5.3) of pictures that are shown for this many fields each. Only the first
/// picture of a group bears a stamp where `stamps_all` is off.
fn program_stream(pictures: &[Vec<u8>], fields: impl Fn(usize) -> u64, stamps_all: bool) -> Vec<u8> {
    let mut stream = Vec::new();
    let mut shown = 90_000;
    for (number, picture) in pictures.iter().enumerate() {
        let clock = shown - 60_000;
        stream.extend([0, 0, 1, 0xBA]);
        let packed: u64 = 0b01 << 46
            | (clock >> 30 & 7) << 43
            | 1 << 42
            | (clock >> 15 & 0x7FFF) << 27
            | 1 << 26
            | (clock & 0x7FFF) << 11
            | 1 << 10
            | 1;
        stream.extend(&packed.to_be_bytes()[2..]);
        // The rate in units of 50 bytes a second, and no stuffing.
        stream.extend([0x01, 0x89, 0xC3, 0xF8]);
        for (place, piece) in picture.chunks(60_000).enumerate() {
            let stamped = place == 0 && (stamps_all || picture.starts_with(&[0, 0, 1, 0xB3]));
            let header = if stamped { 5 } else { 0 };
            stream.extend([0, 0, 1, 0xE0]);
            stream.extend(u16::try_from(piece.len() + 3 + header).unwrap().to_be_bytes());
            stream.extend([0x80, if stamped { 0x80 } else { 0 }, header as u8]);
            if stamped {
                stream.push(0x21 | (shown >> 29 & 0x0E) as u8);
                stream.extend(((shown >> 14 & 0xFFFE) as u16 | 1).to_be_bytes());
                stream.extend(((shown << 1 & 0xFFFE) as u16 | 1).to_be_bytes());
            }
            stream.extend(piece);
        }
        shown += fields(number) * FIELD;
    }
    stream.extend([0, 0, 1, 0xB9]);
    stream
}

fn source(folder: &Path, name: &str) -> SourceRef {
    SourceRef::of(FileRef::within(folder.display().to_string(), name.parse().unwrap()))
}

fn scanned(file: &SourceRef) -> Reading {
    let (reading, _) = scan(file, false, &Control::default(), &|_: Answer| {}).unwrap();
    reading
}

/// Makes a file of it, checks it, and answers the numbers of its pictures with their times.
fn made(folder: &Path, file: &SourceRef, reading: &Reading, overrides: serde_json::Value) -> Vec<(f64, usize)> {
    let plan = plan(reading, &builtin("same-h264").unwrap(), &overrides).unwrap();
    let output: PathBuf = format!("{}.part", Uuid::now_v7()).into();
    let output = source(folder, output.to_str().unwrap());
    let run = EncodeRun { id: Uuid::now_v7(), plan: plan.clone(), outputs: vec![output.file.clone()], assets: Vec::new() };
    let news = Mutex::new(None);
    encode(file, &[run], folder, &Control::default(), &|event| match event {
        Event::Run { news: RunNews::Written { measured }, .. } => *news.lock().unwrap() = Some(measured),
        Event::Run { news: RunNews::Failed { problem }, .. } => panic!("{problem}"),
        _ => {}
    })
    .unwrap();
    let report = judge(&plan, &news.into_inner().unwrap().unwrap());
    assert!(report.passed, "{report:#?}");
    timed_pictures(&output)
        .unwrap()
        .into_iter()
        .map(|(time, planes)| (time.to_f64(), number_of(&planes.luma, WIDTH as usize)))
        .collect()
}

#[test]
fn each_film_frame_comes_once_whatever_the_flags_ask_a_player_for() {
    beryl_media::silence_libraries();
    let folder = tempfile::tempdir().unwrap();
    let mut film = pictures(&film(folder.path()));
    assert_eq!(film.len(), FRAMES);
    for (number, picture) in film.iter_mut().enumerate() {
        flagged(picture, number);
    }
    let fields = |number: usize| if number.is_multiple_of(2) { 3 } else { 2 };
    for (name, stamps_all) in [("groups.mpg", false), ("all.mpg", true)] {
        std::fs::write(folder.path().join(name), program_stream(&film, fields, stamps_all)).unwrap();
        let file = source(folder.path(), name);
        let quick = json!({ "picture": { "effort": "quick" } });
        let all: Vec<usize> = (0..FRAMES).collect();
        // By its header and its stamps it has frames at their own times; each is kept.
        let reading = probe(&file).unwrap();
        let (_, picture) = reading.facts.picture().unwrap();
        assert_eq!(picture.frame_rate, Some(FILM), "{name}");
        let shown = made(folder.path(), &file, &reading, quick.clone());
        assert_eq!(shown.iter().map(|(_, number)| *number).collect::<Vec<_>>(), all, "{name}");

        // Scanned, it is known as film, and each frame lasts as long as the others.
        let reading = scanned(&file);
        let findings = reading.findings.as_ref().unwrap();
        assert_eq!(findings.rate.as_ref().unwrap().mean, Some(FILM), "{name}");
        assert_eq!(findings.fields.as_ref().unwrap().verdict, FieldsVerdict::SoftTelecine, "{name}");
        for rate in [json!({ "rule": "same" }), json!({ "rule": "keep_variable" })] {
            let shown = made(folder.path(), &file, &reading, json!({ "picture": { "effort": "quick", "frame_rate": rate } }));
            assert_eq!(shown.iter().map(|(_, number)| *number).collect::<Vec<_>>(), all, "{name}");
            let place = |number: usize| (FILM.inverse().unwrap() * Rational::whole(number as i64)).to_f64();
            assert!(shown.iter().all(|(time, number)| (time - place(*number)).abs() < 1e-4), "{name}: {shown:?}");
        }
    }
}
