//! The habits of other people's files, generated: each is planned and made, and picture and sound are where
//! they were, judged by clicks and flashes in the decoded output.

// Helpers of tests fail loudly.
#![allow(clippy::unwrap_used, clippy::cast_possible_truncation, clippy::cast_possible_wrap, clippy::cast_sign_loss)]

mod habit;

use std::path::Path;
use std::sync::Mutex;
use std::sync::atomic::{AtomicUsize, Ordering};

use beryl_core::after::check::{CheckItem, CheckReport, Grade, judge};
use beryl_core::plan::{Plan, PlanError, Subject, plan_with as plan};
use beryl_core::preset::builtin;
use beryl_core::problem::Problem;
use beryl_core::protocol::{EncodeRun, Event, FileRef, RunNews, ShownField, SourceRef};
use beryl_core::reading::Reading;
use beryl_core::time::Rational;
use beryl_media::{Control, StillWish, Stills, encode, heard, probe, scan, silence_libraries, timed_pictures};
use habit::{FLASHES, Habit, LENGTH, forms, four_in_one, table};
use serde_json::json;
use uuid::Uuid;

/// Presets that between them use every container, codec and way with time.
const PRESETS: [&str; 4] = ["light-proxy", "same-h264", "master-keeper", "sound-only"];
/// Seconds by which picture and sound may be apart, beside what the source's own clock cannot tell.
const IN_STEP: f64 = 0.001;

fn source(folder: &Path, name: &str) -> SourceRef {
    SourceRef::of(FileRef::within(folder.display().to_string(), name.parse().unwrap()))
}

/// What became of one habit with one preset.
struct Outcome {
    plan: Result<Plan, PlanError>,
    report: Option<CheckReport>,
    problem: Option<Problem>,
    output: SourceRef,
}

fn outcomes(folder: &Path, file: &SourceRef, plans: Vec<Result<Plan, PlanError>>) -> Vec<Outcome> {
    let output = || source(folder, &Uuid::now_v7().to_string());
    let mut outcomes: Vec<Outcome> =
        plans.into_iter().map(|plan| Outcome { plan, report: None, problem: None, output: output() }).collect();
    let runs: Vec<(usize, EncodeRun)> = outcomes
        .iter()
        .enumerate()
        .filter_map(|(place, outcome)| {
            let plan = outcome.plan.as_ref().ok()?.clone();
            Some((place, EncodeRun { id: Uuid::now_v7(), plan, outputs: vec![outcome.output.file.clone()], assets: Vec::new() }))
        })
        .collect();
    let told = Mutex::new(Vec::new());
    let all: Vec<EncodeRun> = runs.iter().map(|(_, run)| run.clone()).collect();
    let ended = encode(file, &all, folder, &Control::default(), &|event| told.lock().unwrap().push(event));
    for event in told.into_inner().unwrap() {
        let Event::Run { id, news } = event else { continue };
        let place = runs.iter().find(|(_, run)| run.id == id).unwrap().0;
        match news {
            RunNews::Written { measured } => {
                outcomes[place].report = Some(judge(outcomes[place].plan.as_ref().unwrap(), &measured));
            }
            RunNews::Failed { problem } => outcomes[place].problem = Some(problem),
            RunNews::Progress { .. } | RunNews::Reading => {}
        }
    }
    if let Err(problem) = ended {
        outcomes
            .iter_mut()
            .filter(|one| one.plan.is_ok() && one.report.is_none())
            .for_each(|one| one.problem = Some(problem.clone()));
    }
    outcomes
}

/// The moments at which the picture turns bright.
fn flashes(file: &SourceRef) -> Vec<f64> {
    let mut bright = false;
    let mut found = Vec::new();
    for (time, planes) in timed_pictures(file).unwrap() {
        let mean = planes.luma.iter().map(|code| u64::from(*code)).sum::<u64>() / planes.luma.len().max(1) as u64;
        let now = mean > 128;
        if now && !bright {
            found.push(time.to_f64());
        }
        bright = now;
    }
    found
}

/// The moments of the loudest samples, a tenth of a second apart at least.
fn clicks(file: &SourceRef, stream: usize) -> Vec<f64> {
    let heard = heard(file, stream).unwrap();
    let mut peaks: Vec<(f64, f64)> = Vec::new();
    for (time, samples) in &heard.frames {
        for (place, sample) in samples.iter().enumerate().filter(|(_, sample)| sample.abs() > 0.25) {
            let at = time.to_f64() + place as f64 / f64::from(heard.sample_rate);
            match peaks.last_mut().filter(|last| at - last.0 < 0.1) {
                Some(last) if sample.abs() > last.1 => *last = (at, sample.abs()),
                Some(_) => {}
                None => peaks.push((at, sample.abs())),
            }
        }
    }
    peaks.into_iter().map(|(at, _)| at).collect()
}

/// Milliseconds by which each click is from its nearest flash.
fn apart(clicks: &[f64], flashes: &[f64]) -> Vec<f64> {
    let nearest =
        |click: &f64| flashes.iter().map(|flash| (click - flash) * 1e3).min_by(|one, other| one.abs().total_cmp(&other.abs()));
    clicks.iter().filter_map(nearest).collect()
}

/// What is wrong with the outcome of a habit, in words. The clicks of the file are expected `own` milliseconds from
/// its flashes.
fn faults(habit: &Habit, reading: &Reading, outcomes: &[Outcome], own: f64) -> Vec<String> {
    let mut faults = Vec::new();
    let (mut alone, mut together): (Option<Vec<f64>>, Option<Vec<f64>>) = (None, None);
    for (preset, outcome) in PRESETS.iter().zip(outcomes) {
        let mut fault = |words: String| faults.push(format!("{} → {preset}: {words}", habit.name));
        let refused = habit.refused.iter().find(|(refusing, _)| refusing == preset);
        let plan = match (&outcome.plan, refused) {
            (Err(error), Some((_, why))) if error.to_string().contains(why) => continue,
            (Err(error), _) => {
                fault(format!("refused: {error}"));
                continue;
            }
            (Ok(_), Some((_, why))) => {
                fault(format!("not refused with “{why}”"));
                continue;
            }
            (Ok(plan), None) => plan,
        };
        for (wanted, words) in &habit.plan_says {
            if wanted == preset
                && !plan.decisions.iter().any(|decision| format!("{} {}", decision.what, decision.because).contains(words))
            {
                fault(format!("the plan does not say “{words}”: {:#?}", plan.decisions));
            }
        }
        let Some(report) = &outcome.report else {
            let foretold =
                habit.unmade.is_some_and(|why| outcome.problem.as_ref().is_some_and(|problem| problem.why.contains(why)));
            if !foretold {
                fault(format!("not made: {:?}", outcome.problem));
            }
            continue;
        };
        let wrong: Vec<_> = report.wrong().collect();
        if wrong.iter().any(|item| !habit.wrong.contains(&item.what.as_str())) || wrong.is_empty() != habit.wrong.is_empty() {
            fault(format!("wrong are {wrong:?}"));
        }
        let noted: Vec<&str> = report.noted().map(|item| item.what.as_str()).filter(|what| *what != "level needed").collect();
        if noted.iter().any(|what| !habit.noted.contains(what)) {
            fault(format!("noted: {:?}", report.items.iter().filter(|item| item.grade == Grade::Noted).collect::<Vec<_>>()));
        }
        if habit.remarks.is_empty() && !report.remarks.is_empty() {
            fault(format!("remarks: {:?}", report.remarks));
        }
        // Whoever reads the file sees as much of it as was planned.
        let lasts = probe(&outcome.output).ok().and_then(|made| made.facts.picture().and_then(|(stream, _)| stream.duration));
        let planned = plan.picture.as_ref().and_then(|picture| Some((picture.duration?, picture.frame_rate.rate().inverse()?)));
        if let (Some((planned, frame)), Some(lasts)) = (planned, lasts)
            && (planned - lasts).abs() > frame * Rational::constant(3, 2)
            && habit.wrong.is_empty()
            && !habit.noted.contains(&"duration")
        {
            fault(format!("planned are {:.3} s, and the file says {:.3}", planned.to_f64(), lasts.to_f64()));
        }
        if habit.flashes == 0 || reading.facts.sounds().count() == 0 {
            continue;
        }
        let heard: Vec<Vec<f64>> = (0..plan.sound.len()).map(|stream| clicks(&outcome.output, stream)).collect();
        if plan.picture.is_none() {
            alone = heard.first().cloned();
            continue;
        }
        let shown = flashes(&outcome.output);
        if shown.len() != habit.flashes {
            fault(format!("{} flashes: {shown:?}", shown.len()));
            continue;
        }
        for (stream, heard) in heard.iter().enumerate() {
            let apart = apart(heard, &shown);
            if heard.len() != habit.clicks || apart.iter().any(|apart| (apart - own).abs() > IN_STEP * 1e3 + habit.coarse) {
                fault(format!("stream {stream}: flashes {shown:?}, clicks {heard:?}, apart by {apart:?} ms"));
            }
        }
        together = heard.first().cloned().or(together);
    }
    for remark in &habit.remarks {
        let said: Vec<&String> =
            outcomes.iter().filter_map(|one| one.report.as_ref()).flat_map(|report| &report.remarks).collect();
        if !said.iter().any(|said| said.contains(remark)) {
            faults.push(format!("{}: “{remark}” is not among {said:?}", habit.name));
        }
    }
    // The sound alone begins where the others begin.
    if let (Some(alone), Some(together)) = (&alone, &together) {
        let same = alone.len() == together.len() && alone.iter().zip(together).all(|(one, other)| (one - other).abs() <= IN_STEP);
        if !same {
            faults.push(format!("{}: alone, the sound clicks at {alone:?}, beside its picture at {together:?}", habit.name));
        }
    }
    faults
}

/// What is still noted of lengths and counts once the source has been read through, in words: nothing, unless frames
/// are missing in it.
fn noted_when_read_through(habit: &Habit, folder: &Path, file: &SourceRef) -> Option<String> {
    let (reading, _) = scan(file, false, &Control::default(), &|_| {}).unwrap();
    let plan = plan(&reading, &builtin("light-proxy").unwrap(), &json!({ "picture": { "effort": "quick" } }));
    let outcome = outcomes(folder, &file.clone().known_by(&reading), vec![plan]).pop().unwrap();
    let Some(report) = &outcome.report else { return Some(format!("not made: {:?}", outcome.problem)) };
    let lengths = report.items.iter().filter(|item| item.grade != Grade::Fine && item.what.contains("duration"));
    let lengths: Vec<&CheckItem> = lengths.collect();
    (!lengths.is_empty()).then(|| format!("{}: read through, {lengths:?} of {:?}", habit.name, reading.facts.remarks))
}

/// Makes the file of a habit and all of it; what is wrong, in words.
fn judged(habit: &Habit) -> Vec<String> {
    let folder = tempfile::tempdir().unwrap();
    let name = match habit.make(folder.path()) {
        Ok(name) => name,
        Err(problem) => return vec![format!("{}: could not be recorded: {problem:?}", habit.name)],
    };
    let file = source(folder.path(), &name);
    let reading = match (probe(&file), habit.unreadable) {
        (Ok(reading), None) => reading,
        (Ok(_), Some(why)) => return vec![format!("{}: read, although “{why}” was expected", habit.name)],
        (Err(problem), Some(why)) if problem.why.contains(why) => return Vec::new(),
        (Err(problem), _) => return vec![format!("{}: {problem:?}", habit.name)],
    };
    let facts = serde_json::to_value(&reading).unwrap();
    let untrue = habit.facts.iter().filter(|(pointer, value)| facts.pointer(pointer) != Some(value));
    let mut all: Vec<String> = untrue
        .map(|(pointer, value)| format!("{}: {pointer} is {:?} instead of {value}", habit.name, facts.pointer(pointer)))
        .collect();
    // The library's muxer offsets sound with a codec delay from its picture in some containers: what was recorded there
    // is out of step itself, by as much as its first click is.
    let delayed = habit.is_off || reading.facts.sounds().any(|(stream, _)| stream.codec == "opus");
    let own = if delayed { apart(&clicks(&file, 0), &flashes(&file)).first().copied().unwrap_or_default() } else { 0.0 };
    assert!(own.abs() < 25.0, "{}: its own material is out of step by {own} ms", habit.name);
    let overrides = json!({ "picture": { "effort": "quick" } });
    let plans = PRESETS.iter().map(|preset| plan(&reading, &builtin(preset).unwrap(), &overrides)).collect();
    all.extend(faults(habit, &reading, &outcomes(folder.path(), &file, plans), own));
    if habit.noted.contains(&"duration") {
        all.extend(noted_when_read_through(habit, folder.path(), &file));
    }
    all
}

#[test]
fn every_habit_is_planned_made_and_in_step() {
    silence_libraries();
    let only = std::env::var("BERYL_HABIT").unwrap_or_default();
    let habits: Vec<Habit> = table().into_iter().filter(|habit| habit.name.contains(&only)).collect();
    assert!(only.is_empty() && habits.len() >= 60 || !only.is_empty(), "{} habits", habits.len());
    let all = Mutex::new(Vec::new());
    let next = AtomicUsize::new(0);
    // Small files leave a core idle while their job starts and ends.
    std::thread::scope(|scope| {
        for _ in 0..2 {
            scope.spawn(|| {
                while let Some(habit) = habits.get(next.fetch_add(1, Ordering::Relaxed)) {
                    let found = judged(habit);
                    all.lock().unwrap().extend(found);
                }
            });
        }
    });
    let all = all.into_inner().unwrap();
    assert!(all.is_empty(), "{} of {} habits with {} flashes each:\n{}", all.len(), habits.len(), FLASHES.len(), all.join("\n"));
}

#[test]
fn what_is_stored_without_loss_is_the_same_to_the_sample() {
    silence_libraries();
    let own = json!({
        "container": "mkv", "sound": null,
        "picture": {
            "codec": "ffv1", "rate": { "mode": "by_profile" }, "profile": null, "pixel_aspect": "keep",
            "fields": "keep", "size": { "rule": "same" }, "colour": { "range": "same" },
        },
    });
    for habit in forms() {
        let folder = tempfile::tempdir().unwrap();
        let file = source(folder.path(), &habit.make(folder.path()).unwrap());
        let reading = probe(&file).unwrap();
        let (_, before) = reading.facts.picture().unwrap();
        let planned = plan(&reading, &builtin("same-h264").unwrap(), &own);
        // Odd sides are made even, which is no question of samples.
        if before.width % 2 + before.height % 2 > 0 || !(16..=8192).contains(&before.width) {
            continue;
        }
        let made = outcomes(folder.path(), &file, vec![planned]).pop().unwrap();
        let (plan, report) = (made.plan.unwrap(), made.report.unwrap_or_else(|| panic!("{}: {:?}", habit.name, made.problem)));
        assert_eq!(report.wrong().collect::<Vec<_>>(), Vec::<&CheckItem>::new(), "{}: {:?}", habit.name, plan.decisions);
        let lost = |words: &str| ["become", "converted", "left out"].iter().any(|word| words.contains(word));
        let mut of_colour = plan.decisions.iter().filter(|decision| decision.subject == Subject::Colour);
        assert!(!of_colour.any(|decision| lost(&decision.what)), "{}: {:?}", habit.name, plan.decisions);
        let (source, made) = (timed_pictures(&file).unwrap(), timed_pictures(&made.output).unwrap());
        assert_eq!(source.len(), made.len(), "{}", habit.name);
        for ((_, source), (_, made)) in source.iter().zip(&made) {
            // Where both colours lie in one plane, that plane is no other's equal.
            let same = source.luma == made.luma && (before.pixel_format == "nv12" || source == made);
            assert!(same, "{}: {:?}", habit.name, plan.picture);
        }
    }
}

#[test]
fn where_a_clock_jumps_scan_marks_and_pictures_count_by_one_clock() {
    silence_libraries();
    let folder = tempfile::tempdir().unwrap();
    for habit in four_in_one() {
        let name = habit.make(folder.path()).unwrap();
        let (reading, _) = scan(&source(folder.path(), &name), false, &Control::default(), &|_| {}).unwrap();
        let file = source(folder.path(), &name).known_by(&reading);
        let jumps = reading.facts.remarks.iter().filter(|remark| remark.contains("clock jumps back")).count();
        assert_eq!(jumps, 3, "{}: {:?}", habit.name, reading.facts.remarks);
        let length = reading.facts.duration.unwrap().to_f64();
        // Sound ends with its last block.
        assert!((length - 4.0 * LENGTH as f64).abs() < 0.15, "{}: {length} s", habit.name);

        // The last flash of the second recording, and all of the last but its first second, each from its own frame on.
        let flash = |recording: i64, number: usize| recording as f64 * LENGTH as f64 + FLASHES[number];
        let part = |from: i64, to: i64| json!({ "from": format!("{from}/25"), "to": format!("{to}/25") });
        let marks = json!({ "parts": [part(185, 195), part(325, 400)], "picture": { "effort": "quick" } });
        let plans = vec![plan(&reading, &builtin("master-keeper").unwrap(), &marks)];
        let outcome = outcomes(folder.path(), &file, plans).pop().unwrap();
        let report = outcome.report.unwrap_or_else(|| panic!("{}: {:?}", habit.name, outcome.problem));
        assert!(report.passed && report.noted().count() == 0, "{}: {report:#?}", habit.name);
        let expected = [flash(1, 2) - 7.4, flash(3, 1) - 13.0 + 0.4, flash(3, 2) - 13.0 + 0.4];
        for (what, found) in [("flashes", flashes(&outcome.output)), ("clicks", clicks(&outcome.output, 0))] {
            let there = found.iter().zip(expected).all(|(found, expected)| (found - expected).abs() <= IN_STEP + habit.coarse);
            assert!(found.len() == expected.len() && there, "{}: {what} at {found:?}, not {expected:?}", habit.name);
        }

        // Pictures of a bench, going to and fro.
        let mut stills = Stills::open(&file).unwrap();
        for (recording, number) in [(3, 2), (0, 1), (2, 0), (1, 2)] {
            // Sound that is a little longer moves what follows it by less than half a frame.
            for (halves, bright) in [(-3, false), (1, true)] {
                let output = FileRef::within(folder.path().display().to_string(), "still.png".parse().unwrap());
                let at = Rational::new((flash(recording, number) * 50.0).round() as i64 + halves, 50).unwrap();
                let wish = StillWish { at, width: 160, field: ShownField::Both, shape: None, scope: None, output: &output };
                stills.write(wish, folder.path()).unwrap();
                let drawn = beryl_media::pictures(&SourceRef::of(output)).unwrap().remove(0).luma;
                let mean = drawn.iter().map(|code| u64::from(*code)).sum::<u64>() / drawn.len() as u64;
                assert_eq!(mean > 128, bright, "{}: the picture at {} s has a mean of {mean}", habit.name, at.to_f64());
            }
        }
    }
}
