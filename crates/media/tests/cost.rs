//! What runs are told that they cost, against what the whole process took: alone in its program, since
//! anything else that works beside it would count.

// Helpers of tests fail loudly.
#![allow(clippy::unwrap_used)]

use std::sync::Mutex;

use beryl_core::plan::plan_with as plan;
use beryl_core::preset::builtin;
use beryl_core::protocol::{EncodeRun, Event, FileRef, RunNews, SourceRef};
use beryl_demo::{Clip, clips, make};
use beryl_media::{Control, encode, probe, silence_libraries};
use nix::sys::resource::{UsageWho, getrusage};
use nix::sys::time::TimeValLike;
use serde_json::json;
use uuid::Uuid;

fn process_milliseconds() -> i64 {
    let usage = getrusage(UsageWho::RUSAGE_SELF).unwrap();
    usage.user_time().num_milliseconds() + usage.system_time().num_milliseconds()
}

#[test]
fn each_run_is_charged_all_that_its_picture_steps_cost_and_no_other() {
    silence_libraries();
    let folder = tempfile::tempdir().unwrap();
    let file = |name: &str| FileRef::within(folder.path().display().to_string(), name.parse().unwrap());
    let clip = clips().into_iter().find(|clip| clip.path == "openday-94_tape-2.mov").unwrap();
    make(&Clip { seconds: 1, ..clip }, folder.path()).unwrap();
    let source = SourceRef::of(file("openday-94_tape-2.mov"));
    let reading = probe(&source).unwrap();
    let cleaned = |degree: &str| {
        let own = json!({ "picture": { "cleaning": { "denoise": degree } } });
        let plan = plan(&reading, &builtin("light-proxy").unwrap(), &own).unwrap();
        EncodeRun { id: Uuid::now_v7(), plan, outputs: vec![file(&format!("{degree}.part"))], assets: Vec::new() }
    };
    let runs = [cleaned("off"), cleaned("night")];
    let costs = Mutex::new([0_i64; 2]);
    let before = process_milliseconds();
    encode(&source, &runs, folder.path(), &Control::default(), &|event| match event {
        Event::Run { id, news: RunNews::Written { measured } } => {
            let cost = measured[0].cpu_milliseconds.expect("the system tells what threads cost");
            costs.lock().unwrap()[usize::from(id == runs[1].id)] = i64::try_from(cost).unwrap();
        }
        Event::Run { news: RunNews::Failed { problem }, .. } => panic!("{problem}"),
        _ => {}
    })
    .unwrap();
    let whole = process_milliseconds() - before;
    // Cleaning is the greater part of the work, and the libraries do most of it in threads of their own.
    let [plain, night] = costs.into_inner().unwrap();
    assert!(plain > 0 && 4 * plain < whole, "{plain} ms without cleaning, of {whole} in all");
    assert!((whole * 6 / 10..=whole * 11 / 10).contains(&night), "{night} ms with it, of {whole} in all");
}
