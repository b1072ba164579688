//! Sound, judged sample by sample: what is mixed, at which level, at which rate, in how many bits.

// Helpers of tests fail loudly.
#![allow(clippy::unwrap_used, clippy::cast_possible_truncation, clippy::cast_possible_wrap, clippy::cast_sign_loss)]

mod material;

use std::f64::consts::TAU;
use std::path::Path;
use std::sync::Mutex;

use beryl_core::after::check::judge;
use beryl_core::plan::{Plan, plan_with as plan};
use beryl_core::preset::builtin;
use beryl_core::protocol::{EncodeRun, Event, FileRef, RunNews, SourceRef};
use beryl_core::time::Rational;
use beryl_media::{Control, RecordedSound, Recorder, Recording, Stamping, channels, encode, probe, silence_libraries};
use material::wave;
use serde_json::{Value, json};
use uuid::Uuid;

fn source(folder: &Path, name: &str) -> SourceRef {
    SourceRef::of(FileRef::within(folder.display().to_string(), name.parse().unwrap()))
}

/// Writes sound, each channel from -1 to 1, as PCM of so many bits.
fn write(path: &Path, mask: u32, rate: u32, bits: u16, samples: &[Vec<f64>]) {
    let count = samples.len() as u16;
    let full = f64::from(1_i32 << (bits - 1));
    let whole = |sample: f64| (sample * full).round().clamp(-full, full - 1.0) as i32;
    let data: Vec<u8> = (0..samples[0].len())
        .flat_map(|place| {
            samples.iter().flat_map(move |channel| whole(channel[place]).to_le_bytes()[..usize::from(bits / 8)].to_vec())
        })
        .collect();
    std::fs::write(path, wave(count, mask, rate, bits, &data)).unwrap();
}

fn tone(frequency: f64, level: f64, rate: u32, seconds: f64) -> Vec<f64> {
    (0..(seconds * f64::from(rate)) as usize)
        .map(|place| level * (TAU * frequency * place as f64 / f64::from(rate)).sin())
        .collect()
}

fn planned(folder: &Path, name: &str, container: &str, sound: Value) -> Plan {
    let reading = probe(&source(folder, name)).unwrap();
    let own = json!({ "container": container, "picture": null, "sound": sound });
    plan(&reading, &builtin("sound-only").unwrap(), &own).unwrap()
}

/// What becomes of a file: every channel of the output, as it is decoded again.
fn made(folder: &Path, name: &str, plan: &Plan) -> Vec<Vec<f64>> {
    channels(&file_of(folder, name, plan), 0).unwrap()
}

/// The file that is made of one, held against its plan.
fn file_of(folder: &Path, name: &str, plan: &Plan) -> SourceRef {
    let output = source(folder, &format!("{}.{}", Uuid::now_v7(), plan.container.extension()));
    let run = EncodeRun { id: Uuid::now_v7(), plan: plan.clone(), outputs: vec![output.file.clone()], assets: Vec::new() };
    let told = Mutex::new(None);
    encode(&source(folder, name), &[run], folder, &Control::default(), &|event| match event {
        Event::Run { news: RunNews::Written { measured }, .. } => *told.lock().unwrap() = Some(judge(plan, &measured)),
        Event::Run { news: RunNews::Failed { problem }, .. } => panic!("{problem} {}", problem.details),
        _ => {}
    })
    .unwrap();
    let report = told.into_inner().unwrap().unwrap();
    let wrong: Vec<_> = report.wrong().collect();
    assert!(wrong.is_empty(), "{wrong:?}");
    output
}

/// How much of a frequency a stretch of sound has, and what is left without it, as the root of its mean square.
fn measured(samples: &[f64], frequency: f64, rate: u32) -> (f64, f64) {
    let angle = |place: usize| TAU * frequency * place as f64 / f64::from(rate);
    // Sine, cosine and what does not move, by least squares.
    let (mut sums, mut wanted) = ([[0.0; 2]; 2], [0.0; 2]);
    for (place, sample) in samples.iter().enumerate() {
        let parts = [angle(place).sin(), angle(place).cos()];
        for row in 0..2 {
            wanted[row] += parts[row] * sample;
            for column in 0..2 {
                sums[row][column] += parts[row] * parts[column];
            }
        }
    }
    let whole = sums[0][0] * sums[1][1] - sums[0][1] * sums[1][0];
    let sine = (wanted[0] * sums[1][1] - wanted[1] * sums[0][1]) / whole;
    let cosine = (wanted[1] * sums[0][0] - wanted[0] * sums[1][0]) / whole;
    let left = |(place, sample): (usize, &f64)| (sample - sine * angle(place).sin() - cosine * angle(place).cos()).powi(2);
    let rest = samples.iter().enumerate().map(left).sum::<f64>() / samples.len() as f64;
    (sine.hypot(cosine), rest.sqrt())
}

fn decibels(level: f64) -> f64 {
    20.0 * level.max(1e-12).log10()
}

/// The middle of a stretch, away from both ends.
fn middle(samples: &[f64]) -> &[f64] {
    &samples[samples.len() / 4..samples.len() * 3 / 4]
}

/// Front left and right, centre, low frequencies, and both surrounds at the back.
const FIVE_ONE: u32 = 0x3F;
const FREQUENCIES: [f64; 6] = [400.0, 560.0, 720.0, 80.0, 880.0, 1040.0];

#[test]
fn five_channels_become_two_by_the_factors_of_the_recommendation_in_every_codec() {
    silence_libraries();
    let folder = tempfile::tempdir().unwrap();
    let sound: Vec<Vec<f64>> = FREQUENCIES.iter().map(|frequency| tone(*frequency, 0.1, 48_000, 2.0)).collect();
    write(&folder.path().join("five.wav"), FIVE_ONE, 48_000, 24, &sound);
    let part = std::f64::consts::FRAC_1_SQRT_2;
    // Of each channel, left, right and in one.
    let usual = [[1.0, 0.0], [0.0, 1.0], [part, part], [0.0, 0.0], [part, 0.0], [0.0, part]];
    let with = |downmix: Value| json!({ "codec": "pcm24", "bits_per_second": null, "downmix": downmix });
    let aac = json!({ "codec": "aac", "bits_per_second": 320_000, "channels": "stereo", "sample_rate": null });
    let kinds = [
        ("wav", with(json!({})), 1.0, 0.0, 0.01),
        ("wav", json!({ "codec": "pcm16", "bits_per_second": null }), 1.0, 0.0, 0.02),
        ("mov", with(json!({})), 1.0, 0.0, 0.01),
        ("mp4", aac, 1.0, 0.0, 0.3),
        ("wav", with(json!({ "level": -9 })), 0.5_f64.powf(1.5), 0.0, 0.01),
        ("wav", with(json!({ "lfe": -6 })), 1.0, 0.5, 0.01),
    ];
    for (container, kind, level, lfe, slack) in kinds {
        for rule in ["stereo", "mono"] {
            let mut settings = kind.clone();
            settings["channels"] = json!(rule);
            let plan = planned(folder.path(), "five.wav", container, settings.clone());
            let told = plan.decisions.iter().find(|decision| decision.because.contains("BS.775")).unwrap();
            assert!(told.what.contains("FL") && told.what.contains("limited") == (level > 0.4), "{}", told.what);
            let out = made(folder.path(), "five.wav", &plan);
            for (channel, frequency) in FREQUENCIES.iter().enumerate() {
                let mut factors = if channel == 3 { [lfe, lfe] } else { usual[channel] }.map(|factor| factor * level);
                if rule == "mono" {
                    factors = [(factors[0] + factors[1]) / 2.0; 2];
                }
                for (side, samples) in out.iter().enumerate() {
                    let (found, _) = measured(middle(samples), *frequency, 48_000);
                    let (found, wanted) = (decibels(found), decibels(0.1 * factors[side]));
                    let close = (found - wanted).abs() <= slack || wanted < -200.0 && found < -60.0;
                    assert!(close, "{container} {settings} {frequency} Hz: {found:.2} dB where {wanted:.2} are right");
                }
            }
        }
    }
}

#[test]
fn what_adds_up_beyond_full_scale_is_limited_and_stays_as_long() {
    silence_libraries();
    let folder = tempfile::tempdir().unwrap();
    // All channels at full scale in step, after a second in which they are soft.
    let loud: Vec<f64> = tone(440.0, 0.05, 48_000, 1.0).into_iter().chain(tone(440.0, 0.99, 48_000, 1.0)).collect();
    write(&folder.path().join("loud.wav"), FIVE_ONE, 48_000, 16, &vec![loud.clone(); 6]);
    for (container, sound) in [
        ("wav", json!({ "codec": "pcm24", "bits_per_second": null, "channels": "stereo" })),
        ("wav", json!({ "codec": "pcm16", "bits_per_second": null, "channels": "stereo" })),
        ("mp4", json!({ "codec": "aac", "bits_per_second": 320_000, "channels": "stereo" })),
    ] {
        let out = made(folder.path(), "loud.wav", &planned(folder.path(), "loud.wav", container, sound));
        let most = out.iter().flatten().fold(0.0_f64, |most, sample| most.max(sample.abs()));
        assert!(most <= if container == "wav" { 0.8914 } else { 0.99 }, "{container}: {most}");
        let (soft, rest) = measured(&out[0][12_000..36_000], 440.0, 48_000);
        assert!((decibels(soft) - decibels(0.05 * 2.414_214)).abs() < 0.1, "what stays below is left alone: {soft}");
        assert!(rest < 0.002, "{rest}");
        if container == "wav" {
            assert_eq!(out[0].len(), loud.len());
            // Nothing is moved: both go through nought at the same samples.
            let crossing = |samples: &[f64]| samples.windows(2).position(|pair| pair[0] <= 0.0 && pair[1] > 0.0).unwrap();
            let (before, behind) = (crossing(&loud[20_000..]), crossing(&out[0][20_000..]));
            assert!(before.abs_diff(behind) <= 1, "{before} {behind}");
        }
    }
}

#[test]
fn one_is_the_mean_of_two_and_two_get_all_of_one() {
    silence_libraries();
    let folder = tempfile::tempdir().unwrap();
    write(&folder.path().join("two.wav"), 3, 48_000, 24, &[tone(400.0, 0.4, 48_000, 1.0), tone(900.0, 0.2, 48_000, 1.0)]);
    write(&folder.path().join("one.wav"), 4, 48_000, 24, &[tone(400.0, 0.4, 48_000, 1.0)]);
    let pcm = |channels: &str| json!({ "codec": "pcm24", "bits_per_second": null, "channels": channels });
    let one = made(folder.path(), "two.wav", &planned(folder.path(), "two.wav", "wav", pcm("mono")));
    assert_eq!(one.len(), 1);
    for (frequency, wanted) in [(400.0, 0.2), (900.0, 0.1)] {
        let (found, _) = measured(middle(&one[0]), frequency, 48_000);
        assert!((found - wanted).abs() < 1e-5, "{frequency}: {found}");
    }
    let two = made(folder.path(), "one.wav", &planned(folder.path(), "one.wav", "wav", pcm("stereo")));
    let original = channels(&source(folder.path(), "one.wav"), 0).unwrap();
    assert!(two.len() == 2 && two[0] == original[0] && two[1] == original[0], "each has all of it, to the bit");
}

#[test]
fn another_rate_leaves_nothing_that_24_bits_could_show() {
    silence_libraries();
    let folder = tempfile::tempdir().unwrap();
    for (from, to) in [(44_100, 48_000), (48_000, 44_100), (96_000, 48_000), (48_000, 96_000), (32_000, 48_000)] {
        for frequency in [997.0, 9_973.0, 14_009.0] {
            write(&folder.path().join("tone.wav"), 4, from, 24, &[tone(frequency, 0.5, from, 2.0)]);
            let sound = json!({ "codec": "pcm24", "bits_per_second": null, "sample_rate": to });
            let out = made(folder.path(), "tone.wav", &planned(folder.path(), "tone.wav", "wav", sound));
            let (level, rest) = measured(middle(&out[0]), frequency, to);
            assert!(
                (level - 0.5).abs() < 1e-4 && decibels(rest) < -135.0,
                "{from} to {to}, {frequency} Hz: {level}, rest {:.1} dB",
                decibels(rest)
            );
            assert_eq!(out[0].len(), 2 * to as usize);
        }
    }
}

#[test]
fn sixteen_bits_are_left_alone_or_dithered() {
    silence_libraries();
    let folder = tempfile::tempdir().unwrap();
    let pcm16 = json!({ "codec": "pcm16", "bits_per_second": null });
    write(&folder.path().join("sixteen.wav"), 3, 48_000, 16, &[tone(440.0, 0.3, 48_000, 1.0), tone(7_000.0, 0.9, 48_000, 1.0)]);
    let plain = made(folder.path(), "sixteen.wav", &planned(folder.path(), "sixteen.wav", "wav", pcm16.clone()));
    assert!(plain == channels(&source(folder.path(), "sixteen.wav"), 0).unwrap(), "16 bits stay what they are");

    // A third of the last bit: without dither it would be silence, or a square wave.
    let soft = 0.33 / 32_768.0;
    write(&folder.path().join("deep.wav"), 4, 48_000, 24, &[tone(440.0, soft, 48_000, 4.0)]);
    let out = made(folder.path(), "deep.wav", &planned(folder.path(), "deep.wav", "wav", pcm16));
    let (level, _) = measured(middle(&out[0]), 440.0, 48_000);
    assert!((level / soft - 1.0).abs() < 0.1, "it is still heard in the noise: {} of it", level / soft);
    for harmonic in [3.0, 5.0, 7.0] {
        let (level, _) = measured(middle(&out[0]), 440.0 * harmonic, 48_000);
        assert!(level < soft / 12.0, "harmonic {harmonic}: {}", level / soft);
    }
}

/// Two seconds of a tone in the left of so many channels, as AC-3 in a transport stream.
fn broadcast(path: &Path, channels: u32, stamping: Stamping) {
    let sounds = vec![RecordedSound { encoder: "ac3", sample_rate: 48_000, channels, language: None }];
    let mut recorder = Recorder::begin(path, &Recording { format: "mpegts", sounds, ..Recording::default() }).unwrap();
    recorder.stamp(0, stamping);
    for sample in tone(400.0, 0.1, 48_000, 2.0) {
        let moment: Vec<f32> = (0..channels).map(|channel| if channel == 0 { sample as f32 } else { 0.0 }).collect();
        recorder.sound(0, &moment).unwrap();
    }
    recorder.finish().unwrap();
}

#[test]
fn sound_whose_channels_change_in_mid_stream_goes_on_sample_by_sample() {
    silence_libraries();
    let folder = tempfile::tempdir().unwrap();
    broadcast(&folder.path().join("film.ts"), 6, |time| time + Rational::ONE);
    broadcast(&folder.path().join("rest.ts"), 2, |time| time + Rational::whole(3));
    let mut both = std::fs::read(folder.path().join("film.ts")).unwrap();
    both.extend(std::fs::read(folder.path().join("rest.ts")).unwrap());
    std::fs::write(folder.path().join("film.ts"), both).unwrap();
    for (container, codec) in [("mp4", "aac"), ("mov", "pcm16"), ("wav", "pcm24")] {
        let rate = if codec == "aac" { json!(256_000) } else { Value::Null };
        let settings = json!({ "codec": codec, "bits_per_second": rate, "channels": "stereo", "sample_rate": 48_000 });
        let out = made(folder.path(), "film.ts", &planned(folder.path(), "film.ts", container, settings));
        let second = |number: usize| number * 48_000 + 12_000..number * 48_000 + 36_000;
        assert!(out[0].len().abs_diff(4 * 48_000) <= 1536, "{codec}: {} samples", out[0].len());
        for part in [second(0), second(1), second(2), second(3)] {
            let [(left, rest), (right, _)] = [0, 1].map(|channel| measured(&out[channel][part.clone()], 400.0, 48_000));
            assert!((decibels(left) + 20.0).abs() < 0.3 && decibels(right) < -60.0, "{codec} {part:?}: {left} {right}");
            assert!(decibels(rest) < -60.0, "{codec} {part:?}: {:.1} dB beside the tone", decibels(rest));
        }
        // Nothing is missing, and nothing is heard twice, where they change.
        let (left, rest) = measured(&out[0][2 * 48_000 - 2400..2 * 48_000 + 2400], 400.0, 48_000);
        assert!((decibels(left) + 20.0).abs() < 1.0, "{codec}: {left} with {rest} beside it at the change");
    }
}

#[test]
fn rates_of_aac_follow_the_number_of_channels() {
    let folder = tempfile::tempdir().unwrap();
    let quiet = |count: usize| vec![tone(440.0, 0.1, 48_000, 0.2); count];
    for (mask, channels, wanted) in [(4, 1, 128_000), (3, 2, 256_000), (FIVE_ONE, 6, 640_000), (0x63F, 8, 896_000)] {
        write(&folder.path().join("some.wav"), mask, 48_000, 16, &quiet(channels));
        let aac = |rule: &str| json!({ "codec": "aac", "bits_per_second": 256_000, "channels": rule, "sample_rate": null });
        let same = planned(folder.path(), "some.wav", "mp4", aac("same"));
        assert_eq!(same.sound[0].bit_rate.unwrap().0, wanted, "{channels}");
        let stereo = planned(folder.path(), "some.wav", "mp4", aac("stereo"));
        assert_eq!(stereo.sound[0].bit_rate.unwrap().0, 256_000, "what is asked for two channels is what two get");
    }
}

#[test]
fn at_another_speed_pitch_stays_or_goes_along_and_every_moment_is_where_it_belongs() {
    silence_libraries();
    let folder = tempfile::tempdir().unwrap();
    // A tone with a click in the middle of silence before and behind it.
    let rate = 48_000;
    let mut sound = tone(1_000.0, 0.3, rate, 6.0);
    let clicks = [(48_000, 0.9), (240_000, 0.9)];
    for (place, level) in clicks {
        sound[place - 4_800..place + 4_800].fill(0.0);
        sound[place] = level;
    }
    write(&folder.path().join("sound.wav"), 3, rate, 24, &[sound.clone(), sound.clone()]);
    for (text, speed) in [("25/24", 25.0 / 24.0), ("24/25", 0.96), ("1001/1000", 1.001), ("1001/960", 1_001.0 / 960.0)] {
        for pitch in ["keep", "follow"] {
            let mut plan =
                planned(folder.path(), "sound.wav", "wav", json!({ "codec": "pcm24", "bits_per_second": null, "pitch": pitch }));
            // Sound alone has no frame rate that asks for a speed.
            let speed_of_plan =
                text.split_once('/').map(|(one, other)| Rational::new(one.parse().unwrap(), other.parse().unwrap()).unwrap());
            plan.speed = speed_of_plan.unwrap();
            plan.sound[0].speed = plan.speed;
            plan.duration = plan.duration.and_then(|duration| duration.divided_by(plan.speed));
            let out = made(folder.path(), "sound.wav", &plan);
            assert_eq!(out[0].len(), (sound.len() as f64 / speed).round() as usize, "{text} {pitch}");
            for (place, _) in clicks {
                let wanted = place as f64 / speed;
                let around = wanted as usize - 3_600..wanted as usize + 3_600;
                let loudest =
                    out[0][around.clone()].iter().enumerate().max_by(|(_, one), (_, other)| one.abs().total_cmp(&other.abs()));
                let found = (around.start + loudest.unwrap().0) as f64;
                assert!((found - wanted).abs() <= 5.0, "{text} {pitch}: a click {} samples off", found - wanted);
            }
            let frequency = if pitch == "keep" { 1_000.0 } else { 1_000.0 * speed };
            let stretch = &out[0][110_000..125_000];
            let (level, _) = measured(stretch, frequency, rate);
            // A stretcher may let the phase drift a little.
            assert!(decibels(level / 0.3) > if pitch == "keep" { -1.0 } else { -0.05 }, "{text} {pitch}: {level}");
        }
    }
}

/// Noise that is the same each time: no two channels, and no two moments, are alike.
fn noise(channel: u64, samples: usize) -> Vec<f64> {
    let mut numbers = material::Noise::new(channel + 1);
    (0..samples).map(|_| (numbers.next() % 60_000) as f64 / 65_536.0 - 0.45).collect()
}

#[test]
fn channels_are_taken_apart_and_put_together_again_to_the_bit() {
    silence_libraries();
    let folder = tempfile::tempdir().unwrap();
    let sound: Vec<Vec<f64>> = (0..4).map(|channel| noise(channel, 48_000)).collect();
    // Four channels of which nobody says where they belong.
    write(&folder.path().join("four.wav"), 0, 48_000, 24, &sound);
    let original = channels(&source(folder.path(), "four.wav"), 0).unwrap();
    let pcm = |more: Value| {
        let mut settings = json!({ "codec": "pcm24", "bits_per_second": null });
        settings.as_object_mut().unwrap().extend(more.as_object().unwrap().clone());
        settings
    };
    let plan = planned(folder.path(), "four.wav", "mov", pcm(json!({ "streams": "channels" })));
    assert_eq!(plan.sound.len(), 4);
    let apart = file_of(folder.path(), "four.wav", &plan);
    for (number, channel) in original.iter().enumerate() {
        let track = channels(&apart, number).unwrap();
        assert!(track.len() == 1 && track[0] == *channel, "track {number} is channel {number}");
    }
    let name = apart.file.path.name();
    let again = made(folder.path(), &name, &planned(folder.path(), &name, "wav", pcm(json!({ "streams": "joined" }))));
    assert!(again == original, "four tracks in one are what they were");

    // By hand: the fourth and the first as a pair, and the second alone, of the file with four tracks and of that with one.
    let of_one = json!([
        { "from": [{ "stream": 0, "channels": [3, 0] }], "language": "deu", "title": "Dialogue" },
        { "from": [{ "stream": 0, "channels": [1] }] },
    ]);
    let of_four = json!([{ "from": [{ "stream": 3 }, { "stream": 0 }], "language": "deu", "title": "Dialogue" }, { "from": [{ "stream": 1 }] }]);
    for (name, tracks) in [("four.wav", of_one), (name.as_str(), of_four)] {
        let plan = planned(folder.path(), name, "mov", pcm(json!({ "tracks": tracks })));
        let output = file_of(folder.path(), name, &plan);
        let [pair, alone] = [0, 1].map(|number| channels(&output, number).unwrap());
        assert!(pair == [original[3].clone(), original[0].clone()], "{name}: the pair");
        assert!(alone == [original[1].clone()], "{name}: the one");
        let reading = probe(&output).unwrap();
        let (first, _) = reading.facts.sounds().next().unwrap();
        assert_eq!(first.language.as_deref(), Some("deu"));
    }
}

#[test]
fn a_matrix_says_how_loud_each_channel_is_in_each() {
    silence_libraries();
    let folder = tempfile::tempdir().unwrap();
    let tones = [400.0, 600.0, 900.0];
    write(&folder.path().join("three.wav"), 0, 48_000, 24, &tones.map(|frequency| tone(frequency, 0.2, 48_000, 1.0)));
    let tracks = json!([{ "from": [{ "stream": 0 }], "matrix": [[0, null, -6], [null, -3, null]] }]);
    let sound = json!({ "codec": "pcm24", "bits_per_second": null, "tracks": tracks });
    let out = made(folder.path(), "three.wav", &planned(folder.path(), "three.wav", "wav", sound));
    let part = std::f64::consts::FRAC_1_SQRT_2;
    for (row, wanted) in out.iter().zip([[1.0, 0.0, 0.5], [0.0, part, 0.0]]) {
        for (frequency, factor) in tones.iter().zip(wanted) {
            let (found, _) = measured(middle(row), *frequency, 48_000);
            assert!((found - 0.2 * factor).abs() < 1e-4, "{frequency}: {found}");
        }
    }
    assert_eq!(out.len(), 2);
}

#[test]
fn streams_of_other_rates_and_lengths_are_joined_and_keep_time() {
    silence_libraries();
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("uneven.mov");
    let of = |sample_rate| RecordedSound { encoder: "pcm_s16le", sample_rate, channels: 1, language: None };
    let recording = Recording { format: "mov", sounds: vec![of(48_000), of(32_000)], ..Recording::default() };
    let mut recorder = Recorder::begin(&path, &recording).unwrap();
    // The second ends after half of the time.
    for (stream, rate, seconds, frequency) in [(0, 48_000, 2.0, 440.0), (1, 32_000, 1.0, 700.0)] {
        for sample in tone(frequency, 0.25, rate, seconds) {
            recorder.sound(stream, &[sample as f32]).unwrap();
        }
    }
    recorder.finish().unwrap();
    let sound = json!({ "codec": "pcm24", "bits_per_second": null, "streams": "joined" });
    let plan = planned(folder.path(), "uneven.mov", "wav", sound);
    assert_eq!((plan.sound[0].channels, plan.sound[0].sample_rate), (2, 48_000));
    let out = made(folder.path(), "uneven.mov", &plan);
    assert_eq!([out[0].len(), out[1].len()], [96_000, 96_000]);
    let (level, rest) = measured(&out[1][8_000..40_000], 700.0, 48_000);
    assert!((level - 0.25).abs() < 1e-3 && rest < 1e-3, "{level} {rest}");
    assert!(out[1][49_000..].iter().all(|sample| sample.abs() < 1e-6), "silent behind its end");
    let (level, _) = measured(middle(&out[0]), 440.0, 48_000);
    assert!((level - 0.25).abs() < 1e-3, "{level}");
}
