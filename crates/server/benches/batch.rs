//! How busy the cores are during a batch of several sources: processor time of all engines over
//! wall time and cores. `cargo bench -p beryl-server --bench batch` prints the ratio of
//! `docs/benchmarks.md`.

// A benchmark fails loudly.
#![allow(clippy::unwrap_used)]

use std::path::Path;
use std::time::{Duration, Instant};

use beryl_core::preset::builtin;
use beryl_ui_tests::{Application, Outcome, make_clips};
use nix::sys::resource::{UsageWho, getrusage};
use nix::sys::time::TimeValLike;
use nix::unistd::{SysconfVar, sysconf};
use reqwest::Method;
use serde_json::json;

const CLIPS: [&str; 6] = [
    "kiln-07_firing_cam-a.mov",
    "kiln-07_firing_cam-b.mp4",
    "openday-94_tape-2.mov",
    "reel-11_grey.mov",
    "trailer_scope_v6.mp4",
    "works-film_1973_r1.mov",
];

/// Processor seconds of this process, of engines that have ended and of those that are still there: sources are looked
/// through beside the runs, by engines that stay.
fn cpu_seconds() -> f64 {
    let of = |who| {
        let usage = getrusage(who).unwrap();
        (usage.user_time().num_microseconds() + usage.system_time().num_microseconds()) as f64 / 1e6
    };
    let living: f64 = std::fs::read_dir("/proc").unwrap().filter_map(|entry| cpu_of_child(&entry.ok()?.path())).sum();
    of(UsageWho::RUSAGE_SELF) + of(UsageWho::RUSAGE_CHILDREN) + living
}

/// Processor seconds of a process that this one has started, by proc(5).
fn cpu_of_child(process: &Path) -> Option<f64> {
    let text = std::fs::read_to_string(process.join("stat")).ok()?;
    // Behind the name, which may hold anything, stand the state and the parent.
    let fields: Vec<&str> = text.rsplit_once(')')?.1.split_whitespace().collect();
    let number = |place: usize| fields.get(place)?.parse::<u64>().ok();
    let ticks = sysconf(SysconfVar::CLK_TCK).ok()?? as f64;
    (number(1)? == u64::from(std::process::id())).then(|| Some((number(11)? + number(12)?) as f64 / ticks))?
}

#[tokio::main(flavor = "multi_thread")]
async fn main() -> Outcome<()> {
    let application = Application::start().await?;
    let media = application.folder("media")?;
    make_clips(&media, &CLIPS, 6)?;
    let storage = application.add_storage("Media", &media).await?;
    let sheet = application.call(Method::POST, "/api/sheets", Some(json!({ "name": "Batch" }))).await?;
    let path = format!("/api/sheets/{}", sheet["id"].as_str().unwrap());
    application.call(Method::POST, &format!("{path}/sources"), Some(json!({ "storage": storage, "paths": [""] }))).await?;
    for id in ["web-1080", "review-small"] {
        let body = json!({ "preset": builtin(id) });
        application.call(Method::POST, &format!("{path}/deliverables"), Some(body)).await?;
    }
    let cells = async |wanted: fn(&serde_json::Value) -> bool| loop {
        let sheet = application.call(Method::GET, &path, None).await.unwrap();
        if sheet["cells"].as_array().unwrap().iter().all(wanted) {
            break;
        }
        tokio::time::sleep(Duration::from_millis(20)).await;
    };
    cells(|cell| cell["forecast"].is_u64()).await;
    let (before, began) = (cpu_seconds(), Instant::now());
    application.call(Method::POST, &format!("{path}/run"), Some(json!({}))).await?;
    cells(|cell| cell["run"]["state"] == "done").await;
    let wall = began.elapsed().as_secs_f64();
    let cores = std::thread::available_parallelism()?.get();
    println!("{} outputs of {} sources in {wall:.1} s on {cores} cores", CLIPS.len() * 2, CLIPS.len());
    println!("cores busy: {:.3}", (cpu_seconds() - before) / (wall * cores as f64));
    Ok(())
}
