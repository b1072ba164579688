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

use bare::{bare_decode, decoder, graph};
use beryl_core::plan::{PicturePlan, Plan, plan};
use beryl_core::preset::{Preset, builtin};
use beryl_core::protocol::{EncodeRun, Event, FileRef, RunNews, SourceRef};
use beryl_demo::{Clip, clips, make};
use beryl_media::{Control, encode, library_settings, probe, remove_temporary_files};
use ffmpeg_next as av;
use nix::sched::{CpuSet, sched_setaffinity};
use nix::sys::resource::{UsageWho, getrusage};
use nix::sys::time::TimeValLike;
use nix::unistd::Pid;
use serde_json::json;
use uuid::Uuid;

/// How often everything is measured, unless a number is given as argument.
const ROUNDS: usize = 3;
const SECONDS: i64 = 12;
const CLIP: &str = "kiln-07_firing_cam-b.mp4";

fn cpu_seconds() -> f64 {
    let usage = getrusage(UsageWho::RUSAGE_SELF).unwrap();
    (usage.user_time().num_microseconds() + usage.system_time().num_microseconds()) as f64 / 1e6
}

fn cost(work: impl FnOnce()) -> f64 {
    let before = cpu_seconds();
    work();
    cpu_seconds() - before
}

/// The shortest way from a source to one file: decode, filter, encode, mux, in one thread.
fn bare_transcode(source: &Path, target: &Path, picture: &PicturePlan) {
    let settings = library_settings(picture);
    let mut input = av::format::input(source).unwrap();
    let (index, mut decoder) = decoder(&input);
    let clock = input.stream(index).unwrap().time_base();
    let mut output = av::format::output(target).unwrap();
    let mut graph = graph(&decoder, clock, &settings.filters);

    let codec = av::encoder::find_by_name(settings.encoder).unwrap();
    let rate = picture.frame_rate.rate();
    let rate = av::Rational(i32::try_from(rate.numerator()).unwrap(), i32::try_from(rate.denominator()).unwrap());
    let mut wanted = av::codec::Context::new_with_codec(codec).encoder().video().unwrap();
    wanted.set_width(picture.width);
    wanted.set_height(picture.height);
    wanted.set_format(picture.pixel_format.parse().unwrap());
    wanted.set_time_base(rate.invert());
    wanted.set_frame_rate(Some(rate));
    let mut options = av::Dictionary::new();
    for (name, value) in &settings.options {
        options.set(name, value);
    }
    let mut encoder = wanted.open_as_with(codec, options).unwrap();
    output.add_stream(codec).unwrap().set_parameters(&encoder);
    output.write_header().unwrap();
    let to = output.stream(0).unwrap().time_base();

    let mut frame = av::frame::Video::empty();
    let mut filtered = av::frame::Video::empty();
    let mut count = 0;
    let write = |encoder: &mut av::encoder::Video, output: &mut av::format::context::Output| {
        let mut packet = av::Packet::empty();
        while encoder.receive_packet(&mut packet).is_ok() {
            packet.set_stream(0);
            packet.rescale_ts(rate.invert(), to);
            packet.write_interleaved(output).unwrap();
        }
    };
    let mut take = |graph: &mut av::filter::Graph, encoder: &mut av::encoder::Video, output: &mut av::format::context::Output| {
        while graph.get("out").unwrap().sink().frame(&mut filtered).is_ok() {
            filtered.set_pts(Some(count));
            filtered.set_kind(av::picture::Type::None);
            count += 1;
            encoder.send_frame(&filtered).unwrap();
            write(encoder, output);
        }
    };
    let packets: Vec<_> = input.packets().map(|(stream, packet)| (stream.index(), packet)).collect();
    for (stream, packet) in packets.into_iter().map(Some).chain([None]).map(|packet| packet.unzip()) {
        match packet {
            Some(packet) if stream == Some(index) => decoder.send_packet(&packet).unwrap(),
            Some(_) => continue,
            None => decoder.send_eof().unwrap(),
        }
        while decoder.receive_frame(&mut frame).is_ok() {
            let time = frame.timestamp();
            frame.set_pts(time);
            graph.get("in").unwrap().source().add(&frame).unwrap();
            take(&mut graph, &mut encoder, &mut output);
        }
    }
    graph.get("in").unwrap().source().flush().unwrap();
    take(&mut graph, &mut encoder, &mut output);
    encoder.send_eof().unwrap();
    write(&mut encoder, &mut output);
    output.write_trailer().unwrap();
}

fn job(source: &SourceRef, folder: &Path, plans: &[Plan]) {
    let runs: Vec<EncodeRun> = plans
        .iter()
        .enumerate()
        .map(|(number, plan)| EncodeRun {
            id: Uuid::now_v7(),
            plan: plan.clone(),
            output: FileRef { root: folder.display().to_string(), path: format!("job-{number}.part").parse().unwrap() },
            aids: Vec::new(),
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
    av::init().unwrap();
    beryl_media::silence_libraries();
    let folder = tempfile::tempdir().unwrap();
    let clip = clips().into_iter().find(|clip| clip.path == CLIP).unwrap();
    make(&Clip { seconds: SECONDS, ..clip }, folder.path()).unwrap();
    let path = folder.path().join(CLIP);
    let source = SourceRef::of(FileRef { root: folder.path().display().to_string(), path: CLIP.parse().unwrap() });
    let reading = probe(&source).unwrap();
    // Sound is nothing beside the picture, and the bare loops leave it out: so do the jobs.
    let wanted = |id: &str| -> Plan {
        let preset = Preset { sound: None, ..builtin(id).unwrap() };
        plan(&reading, &preset, &json!({ "picture": { "rate": { "mode": "constant_quality", "crf": 22 } } })).unwrap()
    };
    let plans = [wanted("web-1080"), wanted("web-720"), wanted("review-small")];
    let bare = |plan: &Plan| {
        let target = folder.path().join("bare.mp4");
        cost(|| bare_transcode(&path, &target, plan.picture.as_ref().unwrap()))
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
