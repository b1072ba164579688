//! Stills of any frame of an open 1080p file: how long each takes, in milliseconds.
//!
//! `cargo bench -p beryl-media --bench still` prints median and 95th percentile for key frames every
//! half second, as cameras make them, and every ten seconds, as few deliveries have them; frames are
//! asked for in a fixed order that looks like none, each far from the last: once as soon as the file is
//! open, and once when all has been done that is done while nobody asks.

// A benchmark fails loudly.
#![allow(clippy::unwrap_used)]

use std::time::Instant;

use beryl_core::protocol::{FileRef, ShownField, SourceRef};
use beryl_core::time::Rational;
use beryl_demo::{Clip, clips, make};
use beryl_media::{StillWish, Stills, silence_libraries};

const SECONDS: i64 = 20;
const ASKED: i64 = 100;

fn main() {
    silence_libraries();
    let folder = tempfile::tempdir().unwrap();
    let root = folder.path().display().to_string();
    for (interval, keys) in [("12", "half a second"), ("250", "ten seconds")] {
        let clip = clips().into_iter().find(|clip| clip.path == "kiln-07_firing_cam-b.mp4").unwrap();
        let mut clip =
            Clip { seconds: SECONDS, path: if interval == "12" { "short.mp4" } else { "long.mp4" }, voices: Vec::new(), ..clip };
        clip.recording.sounds.clear();
        let picture = clip.recording.picture.as_mut().unwrap();
        picture.options.retain(|(name, _)| *name != "g");
        picture.options.push(("g", interval));
        make(&clip, folder.path()).unwrap();
        let file = |name: &str| FileRef::within(root.clone(), name.parse().unwrap());
        let output = file("still.jpg");
        let mut stills = Stills::open(&SourceRef::of(file(clip.path))).unwrap();
        let frames = SECONDS * 25;
        let ask_all = |words: &str, stills: &mut Stills| {
            let mut times: Vec<f64> = (0..ASKED)
                .map(|place| {
                    let at = Rational::constant(place * 197 % frames, 25);
                    let began = Instant::now();
                    let wish = StillWish { at, width: 1280, field: ShownField::Both, shape: None, scope: None, output: &output };
                    stills.write(wish, folder.path()).unwrap();
                    began.elapsed().as_secs_f64() * 1e3
                })
                .collect();
            times.sort_by(f64::total_cmp);
            let part = |share: usize| times[times.len() * share / 100];
            println!("key frames every {keys}, {words}: median {:.0} ms, p95 {:.0} ms (bar 100)", part(50), part(95));
        };
        ask_all("at first touch", &mut stills);
        let began = Instant::now();
        while stills.look_ahead(folder.path()) {}
        let indexed = began.elapsed().as_secs_f64();
        println!("key frames every {keys}: {SECONDS} s of the source are gone through in {indexed:.1} s");
        ask_all("once they are", &mut stills);
    }
}
