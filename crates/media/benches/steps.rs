//! What picture steps cost, each for a picture of 1920×1080 on one core.
//!
//! `cargo bench -p beryl-media --bench steps` prints milliseconds of processor time a picture, and where the library has a
//! plainer way to the same form (cubic filters, rounding in place of dithering, nothing said of sides) the ratio to it.

// A benchmark fails loudly.
#![allow(clippy::unwrap_used)]

mod bare;

use std::io::Write as _;
use std::path::Path;

use bare::{bare_decode, bare_filter};
use beryl_core::facts::Content;
use beryl_core::picture::{MatrixCoefficients, Primaries, Transfer};
use beryl_core::plan::plan_with as plan;
use beryl_core::preset::builtin;
use beryl_core::protocol::{FileRef, SourceRef};
use beryl_media::{probe, work_off};
use nix::sched::{CpuSet, sched_setaffinity};
use nix::sys::resource::{UsageWho, getrusage};
use nix::sys::time::TimeValLike;
use nix::unistd::Pid;
use serde_json::{Value, json};

const PICTURES: usize = 24;
const ROUNDS: usize = 5;

fn cost(work: impl FnOnce()) -> f64 {
    let now = || {
        let usage = getrusage(UsageWho::RUSAGE_SELF).unwrap();
        (usage.user_time().num_microseconds() + usage.system_time().num_microseconds()) as f64 / 1e3
    };
    let before = now();
    work();
    now() - before
}

/// Soft shapes with a little noise.
fn write(path: &Path, form: &str, deep: bool) {
    let mut out = std::io::BufWriter::new(std::fs::File::create(path).unwrap());
    writeln!(out, "YUV4MPEG2 W1920 H1080 F25:1 Ip A1:1 C{form}").unwrap();
    let mut seed = 1_u32;
    for picture in 0..PICTURES {
        out.write_all(b"FRAME\n").unwrap();
        for (width, height) in [(1920, 1080), (960, 540), (960, 540)] {
            let mut line = Vec::with_capacity(width * 2);
            for y in 0..height {
                line.clear();
                for x in 0..width {
                    seed = seed.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
                    let code = 200 + (x + y + picture * 3) / 6 + (seed >> 29) as usize;
                    if deep {
                        line.extend(u16::try_from(code).unwrap().to_le_bytes());
                    } else {
                        line.push(u8::try_from(code / 4).unwrap());
                    }
                }
                out.write_all(&line).unwrap();
            }
        }
    }
}

fn main() {
    // All threads that follow stay on this core.
    let mut core = CpuSet::new();
    core.set(0).unwrap();
    sched_setaffinity(Pid::from_raw(0), &core).unwrap();
    beryl_media::silence_libraries();
    let folder = tempfile::tempdir().unwrap();
    write(&folder.path().join("eight.y4m"), "420", false);
    write(&folder.path().join("ten.y4m"), "420p10", true);
    let h264 = |more: Value| {
        let mut picture = json!({ "codec": "h264", "profile": "high", "rate": { "mode": "constant_quality", "crf": 20 } });
        json_patch::merge(&mut picture, &more);
        picture
    };
    let ten = |more: Value| {
        h264(json!({ "codec": "hevc", "profile": "main10" }))
            .as_object()
            .map(|picture| {
                let mut picture = Value::Object(picture.clone());
                json_patch::merge(&mut picture, &more);
                picture
            })
            .unwrap()
    };
    let smaller = json!({ "size": { "rule": "fit", "width": 1280, "height": 720 } });
    let scale = "scale=w=1280:h=720:flags=bicubic+accurate_rnd+full_chroma_int";
    let keep = json!({ "colour": { "dynamic_range": "keep" } });
    let rows: Vec<(&str, &str, Value, Option<String>, bool)> = vec![
        ("8 bit to 1280×720", "eight", h264(smaller.clone()), Some(format!("{scale},format=yuv420p")), false),
        ("10 bit to 1280×720 in 10 bit", "ten", ten(smaller.clone()), Some(format!("{scale},format=yuv420p10le")), false),
        ("10 bit to 1280×720 in 8 bit, dithered", "ten", h264(smaller), Some(format!("{scale},format=yuv420p")), false),
        ("10 bit to 8 bit, dithered", "ten", h264(json!({})), Some("scale=flags=bicubic,format=yuv420p".to_owned()), false),
        (
            "4:2:0 to 4:2:2 in 10 bit",
            "ten",
            ten(json!({ "codec": "prores", "profile": "hq", "rate": { "mode": "by_profile" } })),
            Some("scale=flags=bicubic,format=yuv422p10le".to_owned()),
            false,
        ),
        ("levels changed, 10 bit", "ten", ten(json!({ "adjustment": { "gamma": 110 } })), None, false),
        ("Rec. 601 to Rec. 709, 8 bit", "eight", h264(json!({ "colour": { "space": "rec601_625" } })), None, false),
        ("PQ to Rec. 709 in 8 bit", "ten", h264(json!({})), None, true),
        ("PQ kept in 10 bit", "ten", ten(keep), None, true),
    ];
    for (name, file, picture, plain, is_pq) in rows {
        let path = format!("{file}.y4m");
        let source = SourceRef::of(FileRef::within(folder.path().display().to_string(), path.parse().unwrap()));
        let mut reading = probe(&source).unwrap();
        for stream in &mut reading.facts.streams {
            if let (Content::Picture(picture), true) = (&mut stream.content, is_pq) {
                let colour = &mut picture.colour;
                colour.primaries = Some(Primaries::Bt2020);
                colour.transfer = Some(Transfer::Pq);
                colour.matrix = Some(MatrixCoefficients::Bt2020);
            }
        }
        let patch =
            json!({ "container": if picture["codec"] == "prores" { "mov" } else { "mp4" }, "sound": null, "picture": picture });
        let mut whole = json!({ "picture": { "size": { "rule": "same" }, "pixel_aspect": "keep" } });
        json_patch::merge(&mut whole, &patch);
        let plan = plan(&reading, &builtin("web-1080").unwrap(), &whole).unwrap();
        let path = folder.path().join(path);
        let mut best = [f64::MAX; 3];
        for _ in 0..ROUNDS {
            let costs = [
                cost(|| bare_decode(&path)),
                cost(|| work_off(&source, plan.steps()).unwrap()),
                plain.as_ref().map_or(0.0, |plain| cost(|| bare_filter(&path, plain))),
            ];
            best.iter_mut().zip(costs).for_each(|(best, cost)| *best = best.min(cost));
        }
        let each = |cost: f64| (cost - best[0]).max(0.0) / PICTURES as f64;
        let ratio = plain.map_or_else(String::new, |_| {
            format!(", {:.2} of the plain way's {:.1} ms", each(best[1]) / each(best[2]), each(best[2]))
        });
        println!("{name}: {:.1} ms{ratio}", each(best[1]));
    }
}
