//! Processor time of whole jobs against bare loops over the same libraries with the same settings.
//!
//! `cargo bench -p beryl-media --bench cpu` prints two ratios of `docs/benchmarks.md`: one output,
//! and several outputs of one source in one job against one decode plus the bare encodes. Each is
//! measured in turn several times in this run, and the middle one of the ratios is printed.
//!
//! Everything runs on one core: cores that are busy at the same time slow each other (caches, and
//! on virtual machines threads of one core), and a job keeps more of them busy than a bare loop.

// A benchmark fails loudly.
#![allow(clippy::unwrap_used)]

mod bare;

use std::path::Path;

use bare::{bare_decode, bare_transcode, cost};
use beryl_core::plan::{Plan, plan_with as plan};
use beryl_core::preset::{Preset, builtin};
use beryl_core::protocol::{EncodeRun, Event, FileRef, RunNews, SourceRef};
use beryl_demo::{Clip, clips, make};
use beryl_media::{Control, encode, library_settings, probe, remove_temporary_files};
use nix::sched::{CpuSet, sched_setaffinity};
use nix::unistd::Pid;
use serde_json::json;
use uuid::Uuid;

/// How often everything is measured, unless a number is given as argument.
const ROUNDS: usize = 3;
const SECONDS: i64 = 12;
const CLIP: &str = "kiln-07_firing_cam-b.mp4";

fn job(source: &SourceRef, folder: &Path, plans: &[Plan]) {
    let runs: Vec<EncodeRun> = plans
        .iter()
        .enumerate()
        .map(|(number, plan)| EncodeRun {
            id: Uuid::now_v7(),
            plan: plan.clone(),
            outputs: vec![FileRef::within(folder.display().to_string(), format!("job-{number}.part").parse().unwrap())],
            assets: Vec::new(),
        })
        .collect();
    encode(source, &runs, folder, &Control::default(), &|event| {
        if let Event::Run { news: RunNews::Failed { problem }, .. } = event {
            panic!("{problem}");
        }
    })
    .unwrap();
    remove_temporary_files(&runs);
}

fn middle(mut ratios: Vec<f64>) -> f64 {
    ratios.sort_by(f64::total_cmp);
    ratios[ratios.len() / 2]
}

fn stay_on_one_core() {
    let mut one = CpuSet::new();
    one.set(0).unwrap();
    sched_setaffinity(Pid::from_raw(0), &one).unwrap();
}

fn main() {
    stay_on_one_core();
    beryl_media::silence_libraries();
    let folder = tempfile::tempdir().unwrap();
    let clip = clips().into_iter().find(|clip| clip.path == CLIP).unwrap();
    make(&Clip { seconds: SECONDS, ..clip }, folder.path()).unwrap();
    let path = folder.path().join(CLIP);
    let source = SourceRef::of(FileRef::within(folder.path().display().to_string(), CLIP.parse().unwrap()));
    let reading = probe(&source).unwrap();
    // Sound is nothing beside the picture, and the bare loops leave it out: so do the jobs.
    let wanted = |id: &str| -> Plan {
        let preset = Preset { sound: None, ..builtin(id).unwrap() };
        plan(&reading, &preset, &json!({ "picture": { "rate": { "mode": "constant_quality", "crf": 22 } } })).unwrap()
    };
    let plans = [wanted("web-1080"), wanted("web-720"), wanted("review-small")];
    let bare = |plan: &Plan| {
        let target = folder.path().join("bare.mp4");
        let picture = plan.picture.as_ref().unwrap();
        cost(|| bare_transcode(&path, &target, picture, &library_settings(picture), i64::MAX))
    };
    let mut one = Vec::new();
    let mut several = Vec::new();
    let rounds = std::env::args().skip(1).find_map(|argument| argument.parse().ok()).unwrap_or(ROUNDS);
    for _ in 0..rounds {
        let singles: Vec<f64> = plans.iter().map(bare).collect();
        let decode = cost(|| bare_decode(&path));
        one.push(cost(|| job(&source, folder.path(), &plans[..1])) / singles[0]);
        // One decode and the encodes alone: each bare loop decodes as well, which is taken off.
        let ideal = decode + singles.iter().map(|single| single - decode).sum::<f64>();
        several.push(cost(|| job(&source, folder.path(), &plans)) / ideal);
    }
    println!("one output, job to bare loop:                       {:.3}", middle(one));
    println!("three outputs in one job to one decode + encodes:   {:.3}", middle(several));
}
