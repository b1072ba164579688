//! `beryl prove`: no server, no database.

use std::path::{Path, PathBuf};
use std::process::ExitCode;

use beryl_core::after::check::{Measured, judge, problem_of};
use beryl_core::after::forecast::Outlook;
use beryl_core::after::proof::sample_parts;
use beryl_core::after::quality::Quality;
use beryl_core::after::sample::Sample;
use beryl_core::path::StoragePath;
use beryl_core::plan::Plan;
use beryl_core::preset::PresetPatch;
use beryl_core::problem::{Problem, ProblemKind};
use beryl_core::protocol::{EncodeRun, Event, FileRef, Job, Reference, RunNews, SourceRef};
use beryl_core::reading::Reading;
use beryl_core::time::{Rational, Span};
use beryl_core::units::ByteSize;
use beryl_worker::{Engine, not_named};
use serde::Serialize;
use uuid::Uuid;

use crate::arguments::ProveTask;
use crate::encode::assets_of;
use crate::plan::{chosen, marked, plan_for, read};
use crate::terminal::{human, json_line, say, source_ref};

/// What a proof showed.
#[derive(Debug, Serialize)]
struct Proved {
    preset: String,
    /// The stretches of the source, in seconds from its first frame.
    parts: Vec<Span>,
    /// What they came to.
    size: ByteSize,
    /// How near they come; nothing where there is no picture.
    quality: Option<Quality>,
    /// What the whole will be.
    whole: Outlook,
    /// Where the file is, where it was to be kept.
    file: Option<PathBuf>,
}

pub(crate) async fn run(task: &ProveTask) -> Result<ExitCode, Problem> {
    let engine = Engine::locate()?;
    let (presets, overrides) = chosen(&task.choice)?;
    let name = task.file.display().to_string();
    let source = source_ref(&task.file, task.choice.sequence)?;
    let reading = read(&engine, &source, &task.choice).await?;
    let whole = marked(&reading, &overrides, &task.choice.ins, &task.outs, &name)?;
    let folder = Scratch::make(task.keep.as_deref())?;
    let mut asked = Vec::new();
    for preset in &presets {
        let plan = plan_for(&reading, preset, &whole, &name)?;
        let parts = parts(task, &reading, &plan)?;
        let stretches = PresetPatch { parts: Some(parts), ..whole.clone() };
        // Of several files, the one with the picture is proved.
        let proof = plan_for(&reading, preset, &stretches, &name)?.first_file();
        let file = format!("{}_{}_proof.{}", source.file.path.stem(), preset.id, proof.container.extension());
        free(&folder.0.join(&file))?;
        asked.push((plan, run_of(proof, &folder.0, &file)?));
    }
    let source = source.known_by(&reading);
    let made = make(&engine, &source, asked.iter().map(|(_, run)| run.clone()).collect()).await?;
    for ((whole, run), (measured, cpu_seconds)) in asked.into_iter().zip(made) {
        let quality = hold(&engine, &source, &run).await?;
        let samples: Vec<Sample> = Sample::of(&run.plan, &measured, cpu_seconds).into_iter().collect();
        let file = task.keep.as_ref().map(|folder| folder.join(run.outputs[0].path.to_string()));
        let proved = Proved {
            preset: whole.preset_name.clone(),
            parts: run.plan.parts.clone(),
            size: measured.facts.size,
            quality,
            whole: Outlook::of(whole, &reading.facts, &samples),
            file,
        };
        if task.json { json_line(&proved) } else { print(&proved) }
    }
    Ok(ExitCode::SUCCESS)
}

/// The folder in which proofs are made; gone at the end, where they are not to be kept.
struct Scratch(PathBuf, bool);

impl Scratch {
    fn make(keep: Option<&Path>) -> Result<Self, Problem> {
        let folder = keep.map_or_else(|| std::env::temp_dir().join(format!("beryl-{}", Uuid::new_v4())), Path::to_path_buf);
        let failed =
            |error: std::io::Error| Problem::from_io(format!("the folder {} could not be made", folder.display()), &error);
        std::fs::create_dir_all(&folder).map_err(failed)?;
        Ok(Self(folder.canonicalize().map_err(failed)?, keep.is_some()))
    }
}

impl Drop for Scratch {
    fn drop(&mut self) {
        if !self.1 {
            drop(std::fs::remove_dir_all(&self.0));
        }
    }
}

/// Refuses a name that is taken: a proof that was kept is not overwritten by the next.
fn free(file: &Path) -> Result<(), Problem> {
    if file.symlink_metadata().is_err() {
        return Ok(());
    }
    let what = format!("{} was not written", file.display());
    Err(Problem::new(ProblemKind::NameTaken, what, "there is a file of this name")
        .with_next("Keep the proof in another folder, or move the file."))
}

/// The stretches that are proved: at the moments that were asked for, otherwise spread over all that is taken.
fn parts(task: &ProveTask, reading: &Reading, plan: &Plan) -> Result<Vec<Span>, Problem> {
    if task.moments.is_empty() {
        return Ok(sample_parts(reading, &plan.parts));
    }
    let refuse = |why: String| Problem::new(ProblemKind::Invalid, format!("{} could not be proved", task.file.display()), why);
    if !task.seconds.is_positive() {
        return Err(refuse("there must be more than 0 s at each moment".to_owned()));
    }
    let mut parts: Vec<Span> = Vec::new();
    for text in &task.moments {
        let from = reading.facts.moment(text).map_err(|error| refuse(error.to_string()))?;
        let to = reading.facts.duration.map_or(from + task.seconds, |end| (from + task.seconds).min(end));
        if from >= to {
            return Err(refuse(format!("{text} lies behind its end")));
        }
        parts.push(Span { from: from.max(Rational::ZERO), to });
    }
    Ok(parts)
}

fn run_of(plan: Plan, folder: &Path, file: &str) -> Result<EncodeRun, Problem> {
    let path = StoragePath::from_bytes(file.as_bytes()).map_err(|error| not_named(&error))?;
    let root = folder.to_str().ok_or_else(|| not_named(&"the name of the folder is not UTF-8"))?.to_owned();
    let assets = assets_of(&plan)?;
    Ok(EncodeRun { id: Uuid::new_v4(), plan, outputs: vec![FileRef::within(root, path)], assets })
}

/// Makes all proofs in one decode; answers what each came to, and its processor time.
async fn make(engine: &Engine, source: &SourceRef, runs: Vec<EncodeRun>) -> Result<Vec<(Measured, f64)>, Problem> {
    let mut running = engine.start(&Job::Encode { source: source.clone(), runs: runs.clone(), share: 1 }).await?;
    let mut found: Vec<Option<Measured>> = vec![None; runs.len()];
    while let Some(event) = running.next().await {
        match event {
            Event::Run { id, news: RunNews::Written { measured } } => {
                let Some((place, run)) = runs.iter().enumerate().find(|(_, run)| run.id == id) else { continue };
                if let Some(problem) = problem_of(&run.plan, &measured, &judge(&run.plan, &measured)) {
                    return Err(problem);
                }
                found[place] = measured.into_iter().next();
            }
            Event::Run { news: RunNews::Failed { problem }, .. } | Event::Failed { problem } => return Err(problem),
            Event::Run { .. } | Event::Answer(_) | Event::Ended { .. } => {}
        }
    }
    let lost = || Problem::new(ProblemKind::EngineLost, "the file could not be proved", "the engine gave no answer");
    let cost = |measured: &Measured| measured.cpu_milliseconds.map_or(0.0, |milliseconds| milliseconds as f64 / 1000.0);
    found.into_iter().map(|measured| measured.map(|measured| (measured.clone(), cost(&measured))).ok_or_else(lost)).collect()
}

/// Holds a proof against its source; nothing where it has no picture.
async fn hold(engine: &Engine, source: &SourceRef, run: &EncodeRun) -> Result<Option<Quality>, Problem> {
    let Some(picture) = &run.plan.picture else { return Ok(None) };
    let reference = Reference {
        source: source.clone(),
        origin: run.plan.origin,
        parts: run.plan.parts.clone(),
        steps: picture.steps.clone(),
        assets: run.assets.clone(),
    };
    let made = SourceRef::of(run.outputs[0].clone());
    Ok(Some(engine.compare(reference, made, None, |_| {}).await?.quality))
}

fn print(proved: &Proved) {
    let seconds: f64 = proved.parts.iter().map(|part| (part.to - part.from).to_f64()).sum();
    say!("{} · {seconds:.1} s in {} stretches weigh {}", proved.preset, proved.parts.len(), proved.size);
    if let Some(Quality { ssim, least_ssim, psnr, .. }) = proved.quality {
        say!("  SSIM {ssim:.4} (least {least_ssim:.4}), PSNR {psnr:.1} dB");
    }
    let forecast = &proved.whole.forecast;
    say!("  the whole comes to about {}", forecast.size);
    if let Some(duration) = proved.whole.plan.duration {
        say!("  and lasts {}", human(duration.to_f64()));
    }
    proved.file.iter().for_each(|file| say!("  kept as {}", file.display()));
}
