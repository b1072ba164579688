//! Scans against decoding the same file and throwing it away, in time of the clock on all cores.
//!
//! `cargo bench -p beryl-media --bench scan` prints one ratio for each clip; each is measured in turn
//! several times in this run, and the middle one of the ratios is printed.

// A benchmark fails loudly.
#![allow(clippy::unwrap_used)]

mod bare;

use std::time::Instant;

use bare::bare_decode;
use beryl_core::protocol::{FileRef, SourceRef};
use beryl_demo::{Clip, clips, make};
use beryl_media::{Control, scan, silence_libraries};

/// How often everything is measured, unless a number is given as argument.
const ROUNDS: usize = 5;
const SECONDS: i64 = 12;
const CLIPS: [&str; 3] = ["kiln-07_firing_cam-b.mp4", "kiln-07_firing_cam-a.mov", "openday-94_tape-2.mov"];

fn seconds(work: impl FnOnce()) -> f64 {
    let began = Instant::now();
    work();
    began.elapsed().as_secs_f64()
}

fn main() {
    silence_libraries();
    let rounds = std::env::args().filter_map(|argument| argument.parse().ok()).next().unwrap_or(ROUNDS);
    let folder = tempfile::tempdir().unwrap();
    for name in CLIPS {
        // The picture alone: sound costs a scan what it costs, whatever the picture.
        let clip = clips().into_iter().find(|clip| clip.path.ends_with(name)).unwrap();
        let mut clip = Clip { seconds: SECONDS, voices: Vec::new(), ..clip };
        clip.recording.sounds.clear();
        make(&clip, folder.path()).unwrap();
        let file = FileRef::within(folder.path().display().to_string(), clip.path.parse().unwrap());
        let source = SourceRef::of(file);
        let path = folder.path().join(clip.path);
        let mut ratios: Vec<f64> = (0..rounds)
            .map(|_| {
                let decoded = seconds(|| bare_decode(&path));
                let scanned = seconds(|| drop(scan(&source, false, &Control::default(), &|_| {}).unwrap()));
                scanned / decoded
            })
            .collect();
        ratios.sort_by(f64::total_cmp);
        println!("scan against decoding, {name}: {:.2} (bar 1.50), of {ratios:.2?}", ratios[rounds / 2]);
    }
}
