//! Other people's files: every one becomes every built-in preset, or the plan refuses it with a reason; damaged
//! ones end in a result or a clear error.
//!
//! `BERYL_FOREIGN` names a folder of them. Files below a folder called `odd` are damaged or lie about themselves.
//! `BERYL_DEEP=1` makes all of every file; otherwise long files are made whole by some presets and in part by the others.

// Helpers of tests fail loudly.
#![allow(clippy::unwrap_used)]

mod common;
mod second_reader;

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::Mutex;
use std::sync::atomic::{AtomicUsize, Ordering};

use beryl_core::facts::{Content, Stream};
use beryl_core::preset::builtin_presets;
use beryl_core::problem::ProblemKind;
use beryl_core::reading::Reading;
use beryl_core::time::Rational;
use common::{beryl, encode};
use second_reader::{Kind, Track};
use serde_json::Value;

/// A file longer than this, in seconds, is made whole by some presets alone.
const LONG: f64 = 3.0;
/// So many presets make all of a long file.
const WHOLE_OF_LONG: usize = 2;
/// A file with more pixels than this, over all its frames, is made in part alone.
const HEAVY: f64 = 4e8;

fn files(folder: &Path, found: &mut Vec<PathBuf>) {
    let mut entries: Vec<PathBuf> = std::fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path()).collect();
    entries.sort();
    for path in entries {
        if path.is_dir() {
            files(&path, found);
        } else if path.extension().is_none_or(|extension| extension != "tsv") {
            found.push(path);
        }
    }
}

/// What became of the outputs of one file.
#[derive(Default)]
struct Tally {
    made: usize,
    noted: usize,
    refused: usize,
    cut_short: usize,
    withheld: Vec<String>,
    /// Where the second reader sees something else.
    disputed: Vec<String>,
}

/// Seconds by which two readers may differ.
const ALIKE: f64 = 0.001;

/// Files that are shorter than this, in seconds, end between two ticks of a movie's clock.
const SHORTEST: f64 = 0.005;

/// Looks at a file with a reader that has nothing in common with the engine, and compares what both see: how many
/// pictures there are, how far sound begins from the picture, and how long each stream is shown. Where frames have
/// times of their own, headers do not say how long the last is shown; the plan does.
fn agrees(file: &Path, planned: Option<f64>) -> Result<(), String> {
    let seen = second_reader::look(file)?;
    let output = beryl(&["probe", file.to_str().unwrap(), "--json"]);
    let reading: Reading = serde_json::from_slice(&output.stdout).map_err(|error| error.to_string())?;
    let seen: Vec<&Track> = seen.iter().filter(|track| track.kind != Kind::Other).collect();
    let read: Vec<&Stream> =
        reading.facts.streams.iter().filter(|stream| matches!(stream.content, Content::Picture(_) | Content::Sound(_))).collect();
    if seen.len() != read.len() {
        return Err(format!("{} streams, and {} by the second reader", read.len(), seen.len()));
    }
    let start = |stream: &Stream| stream.start.map_or(0.0, Rational::to_f64);
    let zero = (read.first().map_or(0.0, |stream| start(stream)), seen.first().map_or(0.0, |track| track.start));
    for (stream, track) in read.iter().zip(&seen) {
        let length = stream.duration.map_or(0.0, Rational::to_f64);
        let both = [("begins", start(stream) - zero.0, track.start - zero.1), ("lasts", length, track.end - track.start)];
        let alike = |one: f64, other: f64| (one - other).abs() <= ALIKE + 1e-6;
        for (what, own, other) in both {
            let as_planned = what == "lasts" && planned.is_some_and(|planned| alike(planned, other));
            if !alike(own, other) && !as_planned {
                return Err(format!("stream {} {what} at {own:.4} s, and at {other:.4} s by the second reader", stream.index));
            }
        }
        if let Content::Picture(picture) = &stream.content
            && length > SHORTEST
            && picture.frames.is_some_and(|frames| frames != track.shown)
        {
            return Err(format!("{:?} pictures, and {} by the second reader", picture.frames, track.shown));
        }
    }
    Ok(())
}

impl Tally {
    fn take(&mut self, name: &str, is_odd: bool, report: &Value) {
        for output in report["outputs"].as_array().unwrap() {
            let preset = output["preset"].as_str().unwrap();
            let problem = &output["problem"];
            if problem.is_null() {
                self.made += 1;
                let items = output["check"]["items"].as_array().unwrap();
                self.noted += usize::from(items.iter().any(|item| item["grade"] == "noted"));
                assert!(items.iter().all(|item| item["grade"] != "wrong"), "{name} {preset}: {items:#?}");
                let planned: Option<Rational> = serde_json::from_value(output["plan"]["duration"].clone()).unwrap();
                if let Err(why) = agrees(Path::new(output["file"].as_str().unwrap()), planned.map(Rational::to_f64)) {
                    self.disputed.push(format!("{name} → {preset}: {why}"));
                }
                continue;
            }
            let kind: ProblemKind = serde_json::from_value(problem["kind"].clone()).unwrap();
            for part in ["what", "why", "next"] {
                assert!(!problem[part].as_str().unwrap().is_empty(), "{name} {preset}: {problem}");
            }
            // What has no plan was refused in the plan.
            match kind {
                ProblemKind::Invalid if output["plan"].is_null() => self.refused += 1,
                ProblemKind::NotMedia | ProblemKind::Unsupported | ProblemKind::CutShort if is_odd => self.cut_short += 1,
                _ => self.withheld.push(format!("{name} → {preset}: {problem}")),
            }
        }
    }
}

fn presets() -> Vec<String> {
    builtin_presets().into_iter().map(|preset| preset.id).collect()
}

/// How much of a file is made.
#[derive(PartialEq)]
enum Extent {
    All,
    SomeWhole,
    Parts,
}

/// What a file's length and size allow.
fn extent(file: &Path) -> Extent {
    let output = beryl(&["probe", file.to_str().unwrap(), "--json"]);
    let Ok(reading) = serde_json::from_slice::<Reading>(&output.stdout) else { return Extent::All };
    let length = reading.facts.duration.map_or(0.0, Rational::to_f64);
    let picture = reading.facts.picture().map(|(_, picture)| picture);
    let frames = length * picture.and_then(|picture| picture.frame_rate).map_or(0.0, Rational::to_f64);
    let pixels = picture.map_or(0.0, |picture| f64::from(picture.width) * f64::from(picture.height));
    match length {
        _ if frames * pixels > HEAVY => Extent::Parts,
        length if length > LONG => Extent::SomeWhole,
        _ => Extent::All,
    }
}

fn make(file: &Path, number: usize, deep: bool, out: &Path) -> Vec<Value> {
    let all = presets();
    let extent = if deep { Extent::All } else { extent(file) };
    let run = |presets: &[String], more: &[&str]| {
        let quick: &[&str] = if deep { &[] } else { &["--set", "picture.effort=quick"] };
        encode(file, &presets.join(","), out, &[more, quick, &["--if-exists", "replace"]].concat()).0
    };
    let cut = ["--in", "0.4s", "--out", "1.4s"];
    match extent {
        Extent::All => return vec![run(&all, &[])],
        Extent::Parts => return vec![run(&all, &cut)],
        Extent::SomeWhole => {}
    }
    // Every pair of neighbouring presets has its turn at whole files.
    let whole: Vec<String> = (0..WHOLE_OF_LONG).map(|place| all[(number * WHOLE_OF_LONG + place) % all.len()].clone()).collect();
    let others: Vec<String> = all.into_iter().filter(|preset| !whole.contains(preset)).collect();
    vec![run(&whole, &[]), run(&others, &cut)]
}

#[test]
fn every_file_becomes_every_preset_or_is_refused_truthfully() {
    let Some(folder) = std::env::var_os("BERYL_FOREIGN").map(PathBuf::from) else {
        eprintln!("BERYL_FOREIGN names no folder of other people's files: none was tried");
        return;
    };
    let deep = std::env::var_os("BERYL_DEEP").is_some();
    let only = std::env::var("BERYL_FOREIGN_ONLY").unwrap_or_default();
    let mut found = Vec::new();
    files(&folder, &mut found);
    found.retain(|file| file.to_string_lossy().contains(&only));
    assert!(!found.is_empty(), "{} holds no files", folder.display());
    let tallies: Mutex<BTreeMap<String, Tally>> = Mutex::default();
    let next = AtomicUsize::new(0);
    // Small files leave a core idle while their engine starts and ends.
    std::thread::scope(|scope| {
        for _ in 0..2 {
            scope.spawn(|| {
                while let Some((number, file)) = {
                    let number = next.fetch_add(1, Ordering::Relaxed);
                    found.get(number).map(|file| (number, file))
                } {
                    let out = tempfile::tempdir().unwrap();
                    let name = file.strip_prefix(&folder).unwrap().display().to_string();
                    let began = std::time::Instant::now();
                    let mut tally = Tally::default();
                    for report in make(file, number, deep, out.path()) {
                        tally.take(&name, name.starts_with("odd"), &report);
                    }
                    eprintln!("{name}: {} made in {:.0} s", tally.made, began.elapsed().as_secs_f64());
                    tallies.lock().unwrap().insert(name, tally);
                }
            });
        }
    });
    let tallies = tallies.into_inner().unwrap();
    let sum = |count: fn(&Tally) -> usize| tallies.values().map(count).sum::<usize>();
    eprintln!(
        "{} files: {} outputs made ({} with notes), {} refused in the plan, {} ended by damage",
        tallies.len(),
        sum(|tally| tally.made),
        sum(|tally| tally.noted),
        sum(|tally| tally.refused),
        sum(|tally| tally.cut_short)
    );
    let disputed: Vec<&String> = tallies.values().flat_map(|tally| &tally.disputed).collect();
    assert!(disputed.is_empty(), "the second reader sees {} outputs otherwise:\n{disputed:#?}", disputed.len());
    let withheld: Vec<&String> = tallies.values().flat_map(|tally| &tally.withheld).collect();
    assert!(withheld.is_empty(), "{} outputs were withheld:\n{withheld:#?}", withheld.len());
}
