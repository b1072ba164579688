//! How far forecasts are from what is made: every built-in preset of every file of the folders that are
//! named, as the command line makes them. Prints, for each kind of forecast, how many there were, the error
//! in the middle and the error that 95 of 100 stay below. Files are counted, not named.
//!
//! `cargo bench -p beryl-cli --bench forecasts -- FOLDER …`; `--each` prints every output's figures.

// A bench fails loudly.
#![allow(clippy::unwrap_used, missing_docs)]

#[path = "../tests/common/mod.rs"]
mod common;

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::Mutex;
use std::sync::atomic::{AtomicUsize, Ordering};

use beryl_core::preset::builtin_presets;
use common::encode;
use serde_json::Value;

/// So much of each file is made.
const LONGEST: &str = "3s";

fn files(folder: &Path, found: &mut Vec<PathBuf>) {
    for entry in std::fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() {
            files(&path, found);
        } else if path.extension().is_some_and(|extension| extension != "tsv") {
            found.push(path);
        }
    }
}

/// By how many percent the larger of two exceeds the smaller: twice and half are as far off.
fn error(forecast: f64, made: f64) -> f64 {
    (forecast.max(made) / forecast.min(made).max(1.0) - 1.0) * 100.0
}

fn outputs(report: &Value) -> impl Iterator<Item = (&str, &str, f64, f64)> {
    report["outputs"].as_array().into_iter().flatten().filter_map(|output| {
        let forecast = &output["plan"]["forecast"];
        let made = output["check"]["size"].as_f64().filter(|_| output["problem"].is_null())?;
        Some((forecast["certainty"].as_str()?, output["preset"].as_str()?, forecast["size"].as_f64()?, made))
    })
}

fn main() {
    let arguments: Vec<String> = std::env::args().skip(1).filter(|argument| argument != "--bench").collect();
    let each = arguments.iter().any(|argument| argument == "--each");
    let mut found = Vec::new();
    for folder in arguments.iter().filter(|argument| !argument.starts_with("--")) {
        files(Path::new(folder), &mut found);
    }
    let presets: Vec<String> = builtin_presets().into_iter().map(|preset| preset.id).collect();
    let errors: Mutex<BTreeMap<String, Vec<f64>>> = Mutex::default();
    let next = AtomicUsize::new(0);
    std::thread::scope(|scope| {
        for _ in 0..2 {
            scope.spawn(|| {
                while let Some((number, file)) = {
                    let number = next.fetch_add(1, Ordering::Relaxed);
                    found.get(number).map(|file| (number, file))
                } {
                    let out = tempfile::tempdir().unwrap();
                    let (cut, _) = encode(file, &presets.join(","), out.path(), &["--out", LONGEST]);
                    // A file that is shorter than that is made whole.
                    let whole = cut["outputs"].as_array().is_none_or(|all| all.iter().all(|output| output["plan"].is_null()));
                    let report = if whole { encode(file, &presets.join(","), out.path(), &[]).0 } else { cut };
                    for (kind, preset, forecast, made) in outputs(&report) {
                        if each {
                            println!("{number}\t{preset}\t{kind}\t{forecast}\t{made}\t{:.1}", error(forecast, made));
                        }
                        errors.lock().unwrap().entry(kind.to_owned()).or_default().push(error(forecast, made));
                    }
                }
            });
        }
    });
    println!("{:12} {:>8} {:>10} {:>10}", "kind", "outputs", "middle", "95 of 100");
    for (kind, mut errors) in errors.into_inner().unwrap() {
        errors.sort_by(f64::total_cmp);
        let at = |part: usize| errors[(errors.len() * part / 100).min(errors.len() - 1)];
        println!("{kind:12} {:8} {:8.1} % {:8.1} %", errors.len(), at(50), at(95));
    }
}
