//! Sound of every layout and rate in every codec and container: made as planned, or refused in the plan.

use beryl_core::plan::plan_with as plan;
use beryl_core::preset::builtin;
use beryl_media::{Control, heard, probe, scan, silence_libraries};
use serde_json::json;

use crate::making::{Recorded, fault, made, source};

/// A tenth of a second of PCM in 16 bit.
fn wave(channels: u16, mask: u32, rate: u32) -> Vec<u8> {
    let samples =
        (0..rate / 10).flat_map(|sample| (0..u32::from(channels)).map(move |channel| (sample * (channel + 7)) as u16 / 8));
    wave_of(channels, mask, rate, samples)
}

/// PCM in 16 bit as WAVE_FORMAT_EXTENSIBLE: `mask` has a bit for each speaker, or none.
fn wave_of(channels: u16, mask: u32, rate: u32, samples: impl Iterator<Item = u16>) -> Vec<u8> {
    let samples: Vec<u8> = samples.flat_map(u16::to_le_bytes).collect();
    crate::material::wave(channels, mask, rate, 16, &samples)
}

#[test]
fn every_layout_and_rate_is_made_in_every_codec_and_container_or_refused_in_the_plan() {
    silence_libraries();
    let folder = tempfile::tempdir().unwrap();
    let masks: [u32; 29] = [
        0x4, 0x1, 0x3, 0x9, 0xB, 0x7, 0x103, 0x33, 0x603, 0x107, 0x37, 0x607, 0x3F, 0x60F, 0x70F, 0x63F, 0xFF, 0xF, 0x10F, 0x707,
        0x6C3, 0x137, 0x13F, 0x6CB, 0x637, 0x6C7, 0x6CF, 0x737, 0x3003,
    ];
    let layouts = masks.map(|mask| (mask.count_ones() as u16, mask)).into_iter();
    let layouts = layouts.chain([1, 2, 3, 4, 5, 6, 7, 8, 10, 12, 16, 24, 32].map(|channels| (channels, 0)));
    let rates = [5_512, 7_350, 8_000, 11_025, 22_050, 32_000, 44_056, 44_100, 47_952, 88_200, 96_000, 176_400, 192_000, 384_000];
    let sounds = layouts.map(|(channels, mask)| (channels, mask, 48_000)).chain(rates.map(|rate| (2, 3, rate)));
    let mut wrong = Vec::new();
    let (mut made, mut refused) = (0, 0);
    for (channels, mask, rate) in sounds {
        std::fs::write(folder.path().join("sound.wav"), wave(channels, mask, rate)).unwrap();
        let from = source(folder.path(), "sound.wav");
        let (reading, _) = scan(&from, false, &Control::default(), &|_| ()).unwrap();
        assert!(reading.findings.as_ref().unwrap().sounds.len() == 1, "{channels} {mask:x} {rate}");
        for (container, codec) in
            [("mp4", "aac"), ("mkv", "aac"), ("mov", "pcm24"), ("mkv", "pcm24"), ("wav", "pcm16"), ("mov", "copy")]
        {
            for rule in ["same", "mono", "stereo"].into_iter().take(if codec == "copy" { 1 } else { 3 }) {
                let bits = (codec == "aac").then_some(192_000);
                let own = json!({ "container": container, "picture": null,
                    "sound": { "codec": codec, "channels": rule, "bits_per_second": bits, "sample_rate": null } });
                let told = match plan(&reading, &builtin("sound-only").unwrap(), &own) {
                    Ok(plan) => fault(folder.path(), "sound.wav", &plan),
                    Err(error) => {
                        // AAC has places for some sets of speakers, and any sound becomes mono and stereo.
                        let is_true = codec == "aac" && rule == "same" && error.to_string().contains("AAC has no place for");
                        assert!(is_true, "{channels} {mask:x} {rate} {codec} {container} {rule}: {error}");
                        refused += 1;
                        continue;
                    }
                };
                made += 1;
                wrong.extend(told.map(|told| format!("{channels} {mask:x} {rate} {codec} {container} {rule}: {told}")));
            }
        }
    }
    assert!(made > 20 * refused, "{made} made, {refused} refused");
    assert!(wrong.is_empty(), "{} {wrong:#?}", wrong.len());
}

#[test]
fn sound_of_every_codec_is_taken_over_into_every_container_or_refused_in_the_plan() {
    silence_libraries();
    let folder = tempfile::tempdir().unwrap();
    let mut wrong = Vec::new();
    let mut refused = Vec::new();
    for (format, encoder) in [
        ("mp4", "aac"),
        ("mov", "aac"),
        ("matroska", "aac"),
        ("mpegts", "aac"),
        ("mp4", "libmp3lame"),
        ("matroska", "libmp3lame"),
        ("avi", "libmp3lame"),
        ("mp4", "ac3"),
        ("matroska", "ac3"),
        ("mpegts", "ac3"),
        ("mpegts", "mp2"),
        ("vob", "mp2"),
        ("matroska", "libopus"),
        ("mp4", "libopus"),
        ("matroska", "libvorbis"),
        ("matroska", "flac"),
        ("mov", "pcm_s16le"),
        ("mov", "pcm_s16be"),
        ("mov", "pcm_s24be"),
        ("mov", "pcm_s24le"),
        ("mov", "pcm_f32le"),
        ("avi", "pcm_s16le"),
        ("mov", "alac"),
        ("mov", "pcm_alaw"),
        ("avi", "pcm_u8"),
        ("mov", "adpcm_ima_qt"),
        ("matroska", "wmav2"),
    ] {
        let name = format!("{format}_{encoder}.bin");
        let picture = if format == "vob" { "mpeg2video" } else { "libx264" };
        Recorded { format, picture, sound: encoder, ..Recorded::default() }.record(&folder.path().join(&name));
        let reading = probe(&source(folder.path(), &name)).unwrap();
        for (container, codec) in [
            ("mp4", "copy"),
            ("mov", "copy"),
            ("mkv", "copy"),
            ("mp4", "aac"),
            ("mov", "pcm16"),
            ("mkv", "aac"),
            ("mkv", "pcm24"),
        ] {
            let bits = (codec == "aac").then_some(96_000);
            let own = json!({ "container": container,
                "sound": { "codec": codec, "bits_per_second": bits, "sample_rate": null, "channels": "same" },
                "picture": { "codec": "h264", "effort": "quick", "size": { "rule": "same" }, "level": null,
                    "rate": { "mode": "constant_quality", "crf": 30 } } });
            match plan(&reading, &builtin("web-1080").unwrap(), &own) {
                Ok(plan) => {
                    wrong.extend(fault(folder.path(), &name, &plan).map(|told| format!("{name} {codec} {container}: {told}")));
                }
                Err(error) => refused.push(format!("{name} {codec} {container}: {error}")),
            }
        }
    }
    let untrue = |told: &&String| !told.contains("untouched: choose AAC or PCM for it");
    assert_eq!(refused.iter().find(untrue), None);
    assert!(refused.len() < 20, "{refused:#?}");
    assert!(wrong.is_empty(), "{} {wrong:#?}", wrong.len());
}

#[test]
fn coded_sound_is_heard_when_it_was_in_every_container() {
    silence_libraries();
    let folder = tempfile::tempdir().unwrap();
    let clicks = [4_800, 24_000, 47_000];
    let samples = (0..48_000).map(|sample| if clicks.contains(&sample) { 30_000 } else { 0 });
    std::fs::write(folder.path().join("clicks.wav"), wave_of(1, 4, 48_000, samples)).unwrap();
    let from = source(folder.path(), "clicks.wav");
    let reading = probe(&from).unwrap();
    let own = |container: &str| {
        let sound = json!({ "codec": "aac", "channels": "same", "bits_per_second": 192_000, "sample_rate": null });
        plan(&reading, &builtin("sound-only").unwrap(), &json!({ "container": container, "picture": null, "sound": sound }))
            .unwrap()
    };
    // What was made is a source as well, by whose words it is made again.
    let mut again = Vec::new();
    for container in ["mp4", "mov", "mkv"] {
        let output = made(folder.path(), "clicks.wav", &own(container)).unwrap();
        let name = output.file.path.to_string();
        let reading = probe(&output).unwrap();
        assert_eq!(
            (reading.facts.start.to_f64().abs() < 0.001, reading.facts.duration.unwrap().to_f64().round()),
            (true, 1.0),
            "{container}"
        );
        let pcm = plan(&reading, &builtin("sound-only").unwrap(), &json!({})).unwrap();
        again.push((container, output, made(folder.path(), &name, &pcm).unwrap()));
    }
    for (container, first, second) in again {
        for output in [first, second] {
            let heard = heard(&output, 0).unwrap();
            let all = heard.frames.iter().flat_map(|(begin, samples)| {
                samples.iter().enumerate().map(|(place, sample)| (begin.to_f64() + place as f64 / 48_000.0, *sample))
            });
            let all: Vec<(f64, f64)> = all.collect();
            for click in clicks {
                let at = f64::from(click) / 48_000.0;
                let near = all.iter().filter(|(time, _)| (time - at).abs() < 0.02);
                let loudest = near.max_by(|one, other| one.1.abs().total_cmp(&other.1.abs())).unwrap();
                assert!((loudest.0 - at).abs() <= 0.001 && loudest.1.abs() > 0.2, "{container}: {loudest:?}, not at {at}");
            }
        }
    }
}
