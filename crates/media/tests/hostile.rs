//! Files that somebody broke: small recordings of many kinds, changed at random, through everything that reads and makes.
//!
//! Without more it goes on for some seconds. `BERYL_HOSTILE_SECONDS` says how long, `BERYL_HOSTILE_SEED` where the changes
//! begin, and files of `BERYL_FOREIGN` are broken as well. Under a memory checker it tells what touches memory that it
//! should not.

// Helpers of tests fail loudly.
#![allow(clippy::unwrap_used, clippy::cast_possible_truncation, clippy::cast_possible_wrap, clippy::cast_sign_loss)]

mod material;

use std::path::{Path, PathBuf};
use std::sync::mpsc::{self, RecvTimeoutError};
use std::time::{Duration, Instant};

use beryl_core::picture::{Colour, FieldOrder};
use beryl_core::plan::plan_with as plan;
use beryl_core::preset::builtin;
use beryl_core::protocol::{EncodeRun, FileRef, ShownField, SourceRef};
use beryl_core::time::Rational;
use beryl_media::{
    Control, RecordedPicture, RecordedSound, Recorder, Recording, StillWish, encode, probe, scan, silence_libraries, still,
};
use material::Noise;
use serde_json::json;
use uuid::Uuid;

const SIZE: (u32, u32) = (96, 64);
const FRAMES: i64 = 10;

/// Format, encoder of the picture with its pixel format, and encoder of the sound.
type Kind = (&'static str, Option<(&'static str, &'static str)>, Option<&'static str>);

const KINDS: [Kind; 20] = [
    ("mp4", Some(("libx264", "yuv420p")), Some("aac")),
    ("mp4", Some(("libx265", "yuv420p")), Some("aac")),
    ("mov", Some(("prores_ks", "yuv422p10le")), Some("pcm_s24le")),
    ("mov", Some(("qtrle", "rgb24")), Some("alac")),
    ("mov", Some(("mjpeg", "yuvj420p")), Some("pcm_s16le")),
    ("mov", Some(("v210", "yuv422p10le")), None),
    ("matroska", Some(("libx264", "yuv420p")), Some("flac")),
    ("matroska", Some(("ffv1", "yuv420p10le")), Some("pcm_s16le")),
    ("matroska", Some(("utvideo", "yuv422p")), None),
    ("matroska", Some(("libvpx-vp9", "yuv420p")), Some("libopus")),
    ("mpegts", Some(("libx264", "yuv420p")), Some("mp2")),
    ("vob", Some(("mpeg2video", "yuv420p")), Some("ac3")),
    ("avi", Some(("mpeg4", "yuv420p")), Some("pcm_s16le")),
    ("avi", Some(("huffyuv", "yuv422p")), Some("libmp3lame")),
    ("nut", Some(("rawvideo", "rgb24")), Some("pcm_s16le")),
    ("flv", Some(("flv", "yuv420p")), None),
    ("wav", None, Some("pcm_s24le")),
    ("flac", None, Some("flac")),
    ("ogg", None, Some("libopus")),
    ("aiff", None, Some("pcm_s16be")),
];

/// Changes that once did harm: the kind, and the seed of the change. Each is tried every time.
const FOUND: [(usize, u64); 0] = [];

fn record(path: &Path, (format, picture, sound): Kind) {
    let picture = picture.map(|(encoder, pixel_format)| RecordedPicture {
        encoder,
        options: if encoder.starts_with("libx26") { vec![("preset", "ultrafast")] } else { Vec::new() },
        pixel_format,
        width: SIZE.0,
        height: SIZE.1,
        pixel_aspect: Rational::ONE,
        clock: Rational::constant(1, 25),
        rate: Rational::whole(25),
        fields: FieldOrder::Progressive,
        colour: Colour::default(),
    });
    let sounds = sound.map(|encoder| RecordedSound { encoder, sample_rate: 48_000, channels: 2, language: Some("eng") });
    let recording = Recording { format, picture: picture.clone(), sounds: sounds.into_iter().collect(), ..Recording::default() };
    let mut recorder = Recorder::begin(path, &recording).unwrap();
    for frame in 0..FRAMES {
        if picture.is_some() {
            let pixel = |place: usize| ((place as i64 * 3 + frame * 40) % 251) as u8;
            let pixels: Vec<u8> = (0..(SIZE.0 * SIZE.1 * 3) as usize).map(pixel).collect();
            recorder.picture(&pixels, frame, 1).unwrap();
        }
        if sound.is_some() {
            let samples: Vec<f32> = (0..1920 * 2).map(|place| ((place as f32 + frame as f32) * 0.07).sin() * 0.3).collect();
            recorder.sound(0, &samples).unwrap();
        }
    }
    recorder.finish().unwrap();
}

/// A file with some of its bytes as they should not be.
fn broken(original: &[u8], other: &[u8], noise: &mut Noise) -> Vec<u8> {
    let mut bytes = original.to_vec();
    for _ in 0..=noise.next() % 4 {
        let length = bytes.len().max(1);
        // Headers lie at the beginning or the end, and much hangs on them.
        let place = match noise.next() % 3 {
            0 => noise.next() as usize % length.min(600),
            1 => length - 1 - noise.next() as usize % length.min(2_000),
            _ => noise.next() as usize % length,
        };
        let extent = 1 + noise.next() as usize % 64;
        let end = (place + extent).min(bytes.len());
        match noise.next() % 8 {
            0 => bytes[place] ^= 1 << (noise.next() % 8),
            1 => bytes[place..end].iter_mut().for_each(|byte| *byte = noise.next() as u8),
            2 => bytes[place..end].fill(if noise.next().is_multiple_of(2) { 0 } else { 0xff }),
            3 => bytes.truncate(place.max(1)),
            4 => drop(bytes.drain(place..end)),
            5 => {
                let again = bytes[place..end].to_vec();
                bytes.splice(place..place, again);
            }
            6 => {
                let extremes = [0_u32, 1, 0x7fff_ffff, 0x8000_0000, 0xffff_ffff, 0xffff_fff0, 0x0001_0000];
                let value = extremes[noise.next() as usize % extremes.len()];
                let value = if noise.next().is_multiple_of(2) { value.to_be_bytes() } else { value.to_le_bytes() };
                let end = (place + 4).min(bytes.len());
                bytes[place..end].copy_from_slice(&value[..end - place]);
            }
            _ => {
                let from = noise.next() as usize % other.len().max(1);
                let piece = other[from..(from + extent * 8).min(other.len())].to_vec();
                bytes.splice(place..end, piece);
            }
        }
    }
    bytes
}

/// Everything that is done with a file; whatever comes of it but a crash is well.
fn tried(folder: &Path, name: &str) {
    let source = SourceRef::of(FileRef::within(folder.display().to_string(), name.parse().unwrap()));
    let Ok(reading) = probe(&source) else { return };
    let reading = scan(&source, true, &Control::default(), &|_| {}).map_or(reading, |(reading, _)| reading);
    let png = FileRef::within(folder.display().to_string(), "still.png".parse().unwrap());
    let wish =
        StillWish { at: Rational::constant(1, 5), width: 64, field: ShownField::Both, shape: None, scope: None, output: &png };
    drop(still(&source, wish, folder));
    let own = json!({ "picture": { "size": { "rule": "fit", "width": 160, "height": 160 } }, "salvage": true });
    let plain = json!({});
    let runs: Vec<EncodeRun> = ["light-proxy", "master-keeper", "sound-only"]
        .iter()
        .filter_map(|preset| plan(&reading, &builtin(preset)?, if *preset == "sound-only" { &plain } else { &own }).ok())
        .map(|plan| EncodeRun {
            id: Uuid::now_v7(),
            outputs: vec![FileRef::within(folder.display().to_string(), format!("{}.part", Uuid::now_v7()).parse().unwrap())],
            plan,
            assets: Vec::new(),
        })
        .collect();
    if runs.is_empty() {
        return;
    }
    drop(encode(&source, &runs, folder, &Control::default(), &|_| {}));
    for run in runs {
        drop(std::fs::remove_file(folder.join(run.outputs[0].path.name())));
    }
}

/// Memory that this process has, in bytes.
fn resident() -> u64 {
    let status = std::fs::read_to_string("/proc/self/status").unwrap();
    let line = status.lines().find_map(|line| line.strip_prefix("VmRSS:")).unwrap();
    line.trim().trim_end_matches("kB").trim().parse::<u64>().unwrap() * 1024
}

#[test]
fn broken_files_end_with_an_answer_and_touch_nothing_they_should_not() {
    silence_libraries();
    let asked = |name: &str| std::env::var(name).ok().and_then(|text| text.parse::<u64>().ok());
    let most = Duration::from_secs(asked("BERYL_HOSTILE_SECONDS").unwrap_or(8));
    let first = asked("BERYL_HOSTILE_SEED").unwrap_or(0);
    let folder = tempfile::tempdir().unwrap();
    let mut originals: Vec<(String, Vec<u8>)> = Vec::new();
    for (number, kind) in KINDS.iter().enumerate() {
        let path = folder.path().join(format!("{number}.{}", kind.0));
        record(&path, *kind);
        originals.push((
            format!("broken.{}", kind.0.replace("matroska", "mkv").replace("mpegts", "ts")),
            std::fs::read(&path).unwrap(),
        ));
    }
    let own = originals.len();
    if most > Duration::from_secs(60)
        && let Some(foreign) = std::env::var_os("BERYL_FOREIGN")
    {
        originals.extend(small_files(Path::new(&foreign)));
    }

    // Whatever takes longer than this stands still: it is told, and ends the test.
    let slow = if std::env::var_os("BERYL_CHECKED").is_some() { 900 } else { 60 };
    let (begins, begun) = mpsc::channel::<u64>();
    let watch = std::thread::spawn(move || {
        let mut seed = begun.recv();
        while let Ok(present) = seed {
            seed = match begun.recv_timeout(Duration::from_secs(slow)) {
                Ok(next) => Ok(next),
                Err(RecvTimeoutError::Disconnected) => return,
                Err(RecvTimeoutError::Timeout) => {
                    eprintln!("seed {present} has not come to an end for {slow} s");
                    std::process::abort();
                }
            };
        }
    });

    let began = Instant::now();
    let mut count = 0_u64;
    let mut settled = None;
    let mut wrong = Vec::new();
    let found = FOUND.iter().map(|(kind, seed)| (*kind, *seed));
    let seeds = (first..).map(|seed| (seed as usize % originals.len(), seed));
    for (kind, seed) in found.chain(seeds) {
        if count >= FOUND.len() as u64 + KINDS.len() as u64 && began.elapsed() > most {
            break;
        }
        begins.send(seed).unwrap();
        let mut noise = Noise::new(seed);
        let (name, original) = &originals[kind];
        let other = &originals[noise.next() as usize % own].1;
        std::fs::write(folder.path().join(name), broken(original, other, &mut noise)).unwrap();
        if std::panic::catch_unwind(|| tried(folder.path(), name)).is_err() {
            wrong.push(format!("{name}, seed {seed} of {} kinds", originals.len()));
        }
        count += 1;
        if began.elapsed() > most / 4 && settled.is_none() {
            settled = Some(resident());
        }
    }
    drop(begins);
    watch.join().unwrap();
    println!("{count} broken files, {} MB at the end", resident() >> 20);
    assert!(wrong.is_empty(), "{wrong:#?}");
    if let Some(settled) = settled.filter(|_| most > Duration::from_secs(60)) {
        let now = resident();
        assert!(now < settled + (settled / 2) + (200 << 20), "memory grew from {} to {} MB", settled >> 20, now >> 20);
    }
}

/// The first part of each file below a folder.
fn small_files(folder: &Path) -> Vec<(String, Vec<u8>)> {
    let mut found: Vec<PathBuf> = Vec::new();
    let mut open = vec![folder.to_owned()];
    while let Some(folder) = open.pop() {
        for entry in std::fs::read_dir(folder).unwrap().flatten() {
            let path = entry.path();
            if path.is_dir() { open.push(path) } else { found.push(path) }
        }
    }
    found.sort();
    let part = |path: PathBuf| {
        use std::io::Read;
        let mut bytes = Vec::new();
        std::fs::File::open(&path).ok()?.take(400_000).read_to_end(&mut bytes).ok()?;
        let extension = path.extension()?.to_str()?.to_owned();
        (!bytes.is_empty()).then(|| (format!("broken.{extension}"), bytes))
    };
    found.into_iter().filter_map(part).collect()
}
