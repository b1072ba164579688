//! Quality for each bit, of sets of encoder options beside those that presets are made with.
//!
//! `cargo bench --workspace --bench quality -- PRESET … FILE …` encodes the first frames of each file (of demo clips where
//! none is given) at three qualities with each set for a preset (for all that are measured where none is given), and
//! prints how many bits a set takes for the same SSIM and for the same PSNR (the mean over what both reach, between measured
//! points on straight lines of decibels over the logarithm of the rate, after Bjøntegaard) and how much processor time, both
//! in percent of the options as they are.

// A benchmark fails loudly.
#![allow(clippy::unwrap_used)]

mod bare;

use std::path::Path;

use bare::{bare_transcode, cost};
use beryl_core::plan::{Plan, plan_with as plan};
use beryl_core::preset::builtin;
use beryl_core::protocol::{FileRef, Reference, SourceRef};
use beryl_core::reading::Reading;
use beryl_core::time::{Rational, Span};
use beryl_demo::{Clip, clips, make};
use beryl_media::{Control, compare, library_settings, probe, silence_libraries};
use serde_json::json;

const FRAMES: u32 = 48;
const QUALITIES: [u8; 3] = [20, 26, 32];

/// Options by name, added to what the plan has; parameters of an encoder's own are put behind those.
type Set = &'static [(&'static str, &'static str)];

const H264: [Set; 8] = [
    &[("x264-params", "aq-mode=2")],
    &[("x264-params", "aq-mode=3")],
    &[("x264-params", "deblock=-1,-1")],
    &[("x264-params", "b-adapt=2")],
    &[("x264-params", "rc-lookahead=20")],
    &[("x264-params", "ref=2:subme=8")],
    &[("x264-params", "bframes=5:ref=2")],
    &[("x264-params", "psy-rd=0.5,0")],
];
const HEVC: [Set; 6] = [
    &[("x265-params", "aq-mode=1")],
    &[("x265-params", "aq-mode=3")],
    &[("x265-params", "no-sao=1")],
    &[("x265-params", "bframes=5:ref=2")],
    &[("x265-params", "rc-lookahead=10")],
    &[("x265-params", "rdoq-level=1")],
];

/// What is measured for which presets.
const PRESETS: [(&str, &[Set]); 3] = [("web-1080", &H264), ("review-small", &H264), ("delivery-hevc", &HEVC)];

/// Rate and quality in decibels, from low to high.
type Curve = Vec<(f64, f64)>;

/// What a set comes to.
struct Measured {
    ssim: Curve,
    psnr: Curve,
    /// Seconds of processor time.
    seconds: f64,
}

/// The logarithm of the rate at which a curve comes to a quality.
fn rate_at(curve: &Curve, quality: f64) -> f64 {
    let pair = curve.windows(2).find(|pair| quality <= pair[1].1).unwrap_or(&curve[curve.len() - 2..]);
    let [(low, from), (high, to)] = [pair[0], pair[1]];
    low.ln() + (high.ln() - low.ln()) * (quality - from) / (to - from)
}

/// How much more one takes than another for the same quality, in percent.
fn dearer(one: &Curve, other: &Curve) -> f64 {
    let from = one[0].1.max(other[0].1);
    let to = one.last().unwrap().1.min(other.last().unwrap().1);
    let steps = 20;
    let at = |step: i32| from + (to - from) * f64::from(step) / f64::from(steps);
    let sum: f64 = (0..=steps).map(|step| rate_at(one, at(step)) - rate_at(other, at(step))).sum();
    ((sum / f64::from(steps + 1)).exp() - 1.0) * 100.0
}

fn measured(folder: &Path, source: &SourceRef, plans: &[Plan], set: Set) -> Measured {
    let path = source.file.folder().unwrap().join(source.file.path.to_string());
    let mut measured = Measured { ssim: Vec::new(), psnr: Vec::new(), seconds: 0.0 };
    for plan in plans.iter().rev() {
        let picture = plan.picture.as_ref().unwrap();
        let mut settings = library_settings(picture);
        for (name, value) in set {
            match settings.options.iter_mut().find(|(known, _)| known == name) {
                Some((_, values)) => *values = format!("{values}:{value}"),
                None => settings.options.push(((*name).to_owned(), (*value).to_owned())),
            }
        }
        let target = folder.join("made.mkv");
        measured.seconds += cost(|| bare_transcode(&path, &target, picture, &settings, FRAMES.into()));
        let size = std::fs::metadata(&target).unwrap().len();
        let made = SourceRef::of(FileRef::within(folder.display().to_string(), "made.mkv".parse().unwrap()));
        let end = Rational::whole(FRAMES.into()).divided_by(picture.frame_rate.rate()).unwrap();
        let parts = vec![Span { from: Rational::ZERO, to: end }];
        let reference = Reference { parts, steps: picture.steps.clone(), ..Reference::of(source.clone()) };
        let quality = compare(&reference, &made, None, folder, &Control::default(), &|_| ()).unwrap().quality;
        measured.ssim.push((size as f64, -10.0 * (1.0 - quality.ssim).log10()));
        measured.psnr.push((size as f64, quality.psnr));
    }
    measured
}

fn main() {
    silence_libraries();
    let folder = tempfile::tempdir().unwrap();
    let arguments = std::env::args().skip(1).filter(|argument| !argument.starts_with('-'));
    let (named, mut files): (Vec<String>, Vec<String>) =
        arguments.partition(|argument| PRESETS.iter().any(|(preset, _)| preset == argument));
    if files.is_empty() {
        for clip in clips().into_iter().filter(|clip| ["kiln-07_firing_cam-b.mp4", "trailer_scope_v6.mp4"].contains(&clip.path)) {
            files.push(folder.path().join(clip.path).display().to_string());
            make(&Clip { seconds: 3, ..clip }, folder.path()).unwrap();
        }
    }
    let sources: Vec<(SourceRef, Reading)> = files
        .iter()
        .map(|file| {
            let path = Path::new(file);
            let root = path.parent().unwrap().display().to_string();
            let source = SourceRef::of(FileRef::within(root, path.file_name().unwrap().to_str().unwrap().parse().unwrap()));
            let reading = probe(&source).unwrap();
            (source, reading)
        })
        .collect();
    for (preset, sets) in PRESETS.into_iter().filter(|(preset, _)| named.is_empty() || named.iter().any(|name| name == preset)) {
        let mut rows = vec![(Vec::new(), Vec::new(), 0.0, 0.0); sets.len()];
        for (source, reading) in &sources {
            let plans = QUALITIES.map(|crf| {
                let mut own = json!({ "sound": null, "picture": { "rate": { "mode": "constant_quality", "crf": crf } } });
                if preset == "delivery-hevc" {
                    // So that it is done in a night.
                    own["picture"]["size"] = json!({ "rule": "fit", "width": 1280, "height": 720 });
                }
                plan(reading, &builtin(preset).unwrap(), &own).unwrap()
            });
            let usual = measured(folder.path(), source, &plans, &[]);
            for (set, (by_ssim, by_psnr, all, of_usual)) in sets.iter().zip(&mut rows) {
                let other = measured(folder.path(), source, &plans, set);
                by_ssim.push(dearer(&other.ssim, &usual.ssim));
                by_psnr.push(dearer(&other.psnr, &usual.psnr));
                *all += other.seconds;
                *of_usual += usual.seconds;
            }
        }
        let words = |found: &[f64]| {
            let mean = found.iter().sum::<f64>() / found.len() as f64;
            let each: Vec<String> = found.iter().map(|percent| format!("{percent:+.1}")).collect();
            format!("{mean:+.1} % ({})", each.join(" "))
        };
        for (set, (by_ssim, by_psnr, seconds, usual)) in sets.iter().zip(rows) {
            let options: Vec<&str> = set.iter().map(|(_, value)| *value).collect();
            println!(
                "{preset:14} {:18} bits for the same SSIM {}, for the same PSNR {}, time {:+.0} %",
                options.join(" "),
                words(&by_ssim),
                words(&by_psnr),
                (seconds / usual - 1.0) * 100.0
            );
        }
    }
}
