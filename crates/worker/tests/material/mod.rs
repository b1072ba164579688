//! Sound to work on, and jobs that make files of it.

use std::path::{Path, PathBuf};

use beryl_core::plan::plan_with as plan;
use beryl_core::preset::builtin;
use beryl_core::protocol::{EncodeRun, FileRef, Job, SourceRef};
use beryl_worker::{Engine, LocalPlace};
use uuid::Uuid;

/// The engine that was built with this test.
pub(crate) fn engine_program() -> PathBuf {
    let own = std::env::current_exe().expect("a path");
    own.parent().and_then(Path::parent).expect("a folder").join("beryl-engine")
}

/// Seconds of a tone: 48 kHz, 16 bit, one channel.
pub(crate) fn tone(seconds: u32) -> Vec<u8> {
    // Within sixteen bits by construction.
    #[allow(clippy::cast_possible_truncation)]
    let sample = |number: u32| ((f64::from(number) * 0.06).sin() * 8000.0) as i16;
    (0..48_000 * seconds).flat_map(|number| sample(number).to_le_bytes()).collect()
}

/// Samples as a RIFF WAVE file.
pub(crate) fn wave(samples: &[u8]) -> Vec<u8> {
    let length = u32::try_from(samples.len()).expect("short");
    let mut file = Vec::from(b"RIFF");
    file.extend((36 + length).to_le_bytes());
    file.extend(b"WAVEfmt \x10\0\0\0\x01\0\x01\0");
    file.extend(48_000_u32.to_le_bytes());
    file.extend(96_000_u32.to_le_bytes());
    file.extend(b"\x02\0\x10\0data");
    file.extend(length.to_le_bytes());
    file.extend(samples);
    file
}

/// Jobs that make a WAVE file of `source` under the name that they are given.
pub(crate) async fn sound_only(root: &Path, source: &str) -> impl Fn(&str) -> Job {
    let file = {
        let root = root.display().to_string();
        move |name: &str| FileRef::within(root.clone(), name.parse().expect("a path"))
    };
    let source = SourceRef::of(file(source));
    let reading = Engine::at(LocalPlace::new(engine_program(), None)).probe(&source).await.expect("a reading");
    let preset = builtin("sound-only").expect("the preset");
    let plan = plan(&reading, &preset, &serde_json::Value::Null).expect("a plan");
    move |output| {
        let run = EncodeRun { id: Uuid::now_v7(), plan: plan.clone(), outputs: vec![file(output)], assets: Vec::new() };
        Job::Encode { source: source.clone(), runs: vec![run], share: 1 }
    }
}
