//! What a source says in words: titles, chapters, timecode, roles. They arrive as planned, or with a note, in every
//! container.

use beryl_core::facts::Chapter;
use beryl_core::plan::plan_with as plan;
use beryl_core::preset::builtin;
use beryl_core::reading::Reading;
use beryl_core::time::Rational;
use beryl_media::{probe, silence_libraries, timed_pictures};
use serde_json::{Value, json};

use crate::making::{Recorded, fault, made, source};

/// A change to what is read of a source, and its name.
type Habit = (String, Box<dyn Fn(&mut Reading)>);

fn habit(name: impl Into<String>, change: impl Fn(&mut Reading) + 'static) -> Habit {
    (name.into(), Box::new(change))
}

fn chapter(start: (i64, i64), end: (i64, i64), title: &str) -> Chapter {
    Chapter { start: Rational::constant(start.0, start.1), end: Rational::constant(end.0, end.1), title: title.to_owned() }
}

fn chapters(name: &str, all: Vec<Chapter>) -> Habit {
    habit(format!("chapters {name}"), move |reading| reading.facts.chapters.clone_from(&all))
}

fn habits() -> Vec<Habit> {
    let long = "Kiln ".repeat(20_000);
    let texts = [
        ("plain", "Night shift".to_owned()),
        ("none", String::new()),
        ("lines", "one\ntwo\r\n\tthree".to_owned()),
        ("controls", "a\u{1}b\u{7}c\u{1b}d".to_owned()),
        ("scripts", "Öfen 窯 печь 🔥 \u{202e}rtl".to_owned()),
        ("signs", "a=b;c#d\\e\"f'g<h>&i".to_owned()),
        ("300 letters", "x".repeat(300)),
        ("100 000 letters", long),
    ];
    let mut all = Vec::new();
    for (name, text) in texts {
        let (title, track, named) = (text.clone(), text.clone(), text.clone());
        all.push(habit(format!("title, {name}"), move |reading| {
            for key in ["title", "comment", "artist", "date", "creation_time"] {
                reading.facts.tags.insert(key.to_owned(), title.clone());
            }
        }));
        all.push(habit(format!("title of a track, {name}"), move |reading| {
            reading.facts.streams.iter_mut().for_each(|stream| stream.title = Some(track.clone()));
        }));
        all.push(habit(format!("reel, {name}"), move |reading| {
            (reading.facts.timecode, reading.facts.reel) = (Some("01:00:00:00".to_owned()), Some(text.clone()));
        }));
        all.push(chapters(&format!("named, {name}"), vec![chapter((0, 1), (1, 1), &named), chapter((1, 1), (2, 1), &named)]));
    }
    for timecode in [
        "00:00:00:00",
        "01:00:00;00",
        "10:59:59.24",
        "23:59:59:24",
        "24:00:00:00",
        "99:99:99:99",
        "01:00:00:24",
        "1:2:3:4",
        "noon",
        "",
    ] {
        all.push(habit(format!("timecode {timecode}"), move |reading| reading.facts.timecode = Some(timecode.to_owned())));
    }
    for language in ["und", "fre", "fra", "fr", "fr-CA", "zho", "chi", "mul", "zxx", "qaa", "xx", "english", "", "ger ", "日本"]
    {
        all.push(habit(format!("language {language}"), move |reading| {
            reading.facts.streams.iter_mut().for_each(|stream| stream.language = Some(language.to_owned()));
        }));
    }
    for role in ["default", "dub", "original", "comment", "lyrics", "karaoke", "forced", "hearing_impaired", "visual_impaired"] {
        all.push(habit(format!("role {role}"), move |reading| {
            reading.facts.streams.iter_mut().for_each(|stream| stream.roles = vec![role.to_owned()]);
        }));
    }
    all.push(habit("no roles", |reading| reading.facts.streams.iter_mut().for_each(|stream| stream.roles.clear())));
    all.push(chapters("of no length", vec![chapter((0, 1), (0, 1), "a"), chapter((1, 1), (1, 1), "b")]));
    all.push(chapters("that overlap", vec![chapter((0, 1), (2, 1), "a"), chapter((1, 2), (3, 2), "b")]));
    all.push(chapters("out of order", vec![chapter((1, 1), (2, 1), "b"), chapter((0, 1), (1, 1), "a")]));
    all.push(chapters("at one place", vec![chapter((0, 1), (1, 1), "a"), chapter((0, 1), (1, 1), "b")]));
    all.push(chapters("behind the end", vec![chapter((0, 1), (1, 1), "a"), chapter((600, 1), (601, 1), "b")]));
    all.push(chapters("that end behind it", vec![chapter((0, 1), (600, 1), "a")]));
    all.push(chapters("before the beginning", vec![chapter((-5, 1), (1, 2), "a"), chapter((1, 2), (1, 1), "b")]));
    all.push(chapters("that begin late", vec![chapter((1, 2), (1, 1), "a")]));
    all.push(chapters("with gaps", vec![chapter((0, 1), (1, 4), "a"), chapter((1, 1), (5, 4), "b")]));
    all.push(chapters(
        "to the microsecond",
        vec![chapter((0, 1), (333_333, 1_000_000), "a"), chapter((333_333, 1_000_000), (1, 1), "b")],
    ));
    all.push(chapters("that end before they begin", vec![chapter((1, 1), (1, 2), "a")]));
    all.push(chapters(
        "300 of them",
        (0..300).map(|place| chapter((place, 200), (place + 1, 200), &format!("{place}"))).collect(),
    ));
    all
}

#[test]
fn what_a_source_says_in_words_hinders_nothing() {
    silence_libraries();
    let folder = tempfile::tempdir().unwrap();
    let name = "speech.mkv";
    Recorded::default().record(&folder.path().join(name));
    let plain = probe(&source(folder.path(), name)).unwrap();
    let mut wrong = Vec::new();
    for (habit, change) in habits() {
        let mut reading = plain.clone();
        change(&mut reading);
        for (container, codec) in [("mp4", "aac"), ("mov", "pcm16"), ("mkv", "aac")] {
            let own = json!({ "container": container,
                "sound": { "codec": codec, "bits_per_second": (codec == "aac").then_some(96_000) },
                "picture": { "codec": "h264", "effort": "quick", "size": { "rule": "same" }, "rate": { "mode": "constant_quality", "crf": 30 }, "level": Value::Null } });
            match plan(&reading, &builtin("web-1080").unwrap(), &own) {
                Ok(plan) => wrong.extend(fault(folder.path(), name, &plan).map(|told| format!("{habit}, {container}: {told}"))),
                Err(error) => wrong.push(format!("{habit}, {container}: {error}")),
            }
        }
    }
    assert!(wrong.is_empty(), "{} {wrong:#?}", wrong.len());
}

#[test]
fn subtitles_that_are_written_in_are_seen_when_they_were_however_late_a_file_begins() {
    silence_libraries();
    let folder = tempfile::tempdir().unwrap();
    // Sound from 600 s on, half a second before the picture; a line from 601 to 602 s.
    let recorded = Recorded {
        size: (320, 240),
        stamps: |time| time + Rational::constant(1201, 2),
        sound_stamps: |time| time + Rational::whole(600),
        subtitle: Some((601_000, 602_000)),
        ..Recorded::default()
    };
    recorded.record(&folder.path().join("late.mkv"));
    let reading = probe(&source(folder.path(), "late.mkv")).unwrap();
    let pictures = |rule: &str| {
        let own = json!({ "container": "mkv", "sound": { "codec": "pcm16", "bits_per_second": null }, "picture": { "codec": "ffv1",
            "rate": { "mode": "by_profile" }, "size": { "rule": "same" }, "overlays": { "subtitles": { "rule": rule } } } });
        let plan = plan(&reading, &builtin("web-1080").unwrap(), &own).unwrap();
        let output = made(folder.path(), "late.mkv", &plan).unwrap();
        timed_pictures(&output).unwrap()
    };
    let (plain, written) = (pictures("never"), pictures("first"));
    let differs = plain.iter().zip(&written).filter(|(plain, written)| plain.1.luma != written.1.luma);
    let times: Vec<f64> = differs.map(|(plain, _)| plain.0.to_f64()).collect();
    let (first, last) = (times[0], times[times.len() - 1]);
    assert!((first - 1.0).abs() < 0.05 && (last - 1.96).abs() < 0.05 && times.len() == 25, "from {first} to {last}");
}
