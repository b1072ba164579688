//! `beryl encode`: no server, no database.

use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};
use std::process::ExitCode;

use beryl_core::after::check::{CheckReport, judge, problem_of};
use beryl_core::flow::run::ClashRule;
use beryl_core::flow::tasks::{Progress, Task};
use beryl_core::formats::media_types::looks_like_media;
use beryl_core::lut::FENMARK_LOG;
use beryl_core::path::StoragePath;
use beryl_core::plan::{AssetName, Plan};
use beryl_core::preset::{Preset, PresetPatch};
use beryl_core::problem::{Problem, ProblemKind};
use beryl_core::protocol::{Asset, EncodeRun, Event, FileRef, Job, RunNews, SourceRef};
use beryl_core::reading::Reading;
use beryl_core::units::ByteSize;
use beryl_worker::{
    Engine, FileId, MOST_NUMBERS, NameParts, NamedSource, Placed, Placing, Replacing, candidates, endings, made, not_named,
    open_folder, place, remove_temporary, temporary_names, withhold,
};
use indicatif::{MultiProgress, ProgressBar, ProgressStyle};
use serde::Serialize;
use uuid::Uuid;

use crate::arguments::EncodeTask;
use crate::plan::{chosen, marked, plan_for, read};
use crate::terminal::{file_ref, human, json_line, report, source_ref};

/// What became of one output.
#[derive(Debug, Serialize)]
struct OutputReport {
    source: String,
    preset: String,
    plan: Option<Plan>,
    /// The finished file, or the first of those that belong together.
    file: Option<String>,
    /// The other files that belong to it.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    beside: Vec<String>,
    skipped: bool,
    /// The file that is not as planned, or the first of them, where it was kept.
    withheld: Option<String>,
    size_before: ByteSize,
    size_after: Option<ByteSize>,
    check: Option<CheckReport>,
    problem: Option<Problem>,
}

/// What became of everything.
#[derive(Debug, Default, Serialize)]
struct Report {
    outputs: Vec<OutputReport>,
    /// What of the folders that were named could not be looked through.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    unseen: Vec<Problem>,
    cpu_seconds: f64,
    wall_seconds: f64,
    /// The most memory that an engine held.
    peak_memory: Option<ByteSize>,
    /// The most that the outputs of a source were planned to need.
    planned_memory: Option<ByteSize>,
}

/// One line of JSON on the way.
#[derive(Serialize)]
#[serde(tag = "event", rename_all = "snake_case")]
enum Line<'a> {
    Progress {
        source: &'a str,
        preset: &'a str,
        progress: Progress,
    },
    Report {
        #[serde(flatten)]
        report: &'a Report,
    },
}

/// An output on its way.
struct Underway {
    run: EncodeRun,
    stem: StoragePath,
    bar: ProgressBar,
    report: OutputReport,
}

impl Underway {
    /// Where its files are written.
    fn temporaries(&self) -> impl Iterator<Item = &StoragePath> {
        self.run.outputs.iter().map(|output| &output.path)
    }
}

pub(crate) async fn run(task: &EncodeTask) -> Result<ExitCode, Problem> {
    let engine = Engine::locate()?;
    let (presets, overrides) = chosen(&task.choice)?;
    let folder = &task.into;
    std::fs::create_dir_all(folder)
        .map_err(|error| Problem::from_io(format!("the folder {} could not be made", folder.display()), &error))?;
    let out = std::path::absolute(folder)
        .map_err(|error| Problem::from_io(format!("the folder {} could not be opened", folder.display()), &error))?;
    let bars =
        if task.json { MultiProgress::with_draw_target(indicatif::ProgressDrawTarget::hidden()) } else { MultiProgress::new() };
    let (files, unseen) = found(&task.files)?;
    unseen.iter().for_each(|problem| tell(task, problem));
    let protected: Vec<FileId> = files.iter().filter_map(|file| id_of(&file.path)).collect();
    let mut all = Report { unseen: unseen.clone(), ..Report::default() };
    for (number, file) in files.iter().enumerate() {
        encode_file(task, &engine, file, number, &out, &presets, &overrides, &protected, &bars, &mut all).await;
    }
    if task.json {
        json_line(&Line::Report { report: &all });
    }
    let whole = unseen.is_empty() && all.outputs.iter().all(|output| output.problem.is_none());
    Ok(if whole { ExitCode::SUCCESS } else { ExitCode::from(1) })
}

/// A file to encode, and the folder below the one that was named in which it lies.
struct Input {
    path: PathBuf,
    folder: String,
}

/// The files that were named, and all media in the folders that were, by name; hidden ones are left out. What of a folder
/// cannot be looked through keeps the rest from nothing.
fn found(named: &[PathBuf]) -> Result<(Vec<Input>, Vec<Problem>), Problem> {
    let mut all = Vec::new();
    let mut unseen = Vec::new();
    for path in named {
        if !path.is_dir() {
            all.push(Input { path: path.clone(), folder: String::new() });
            continue;
        }
        let what = || format!("the folder {} could not be looked through", path.display());
        let is_hidden = |entry: &walkdir::DirEntry| entry.depth() > 0 && entry.file_name().as_bytes().first() == Some(&b'.');
        let walk = walkdir::WalkDir::new(path).sort_by_file_name().into_iter().filter_entry(|entry| !is_hidden(entry));
        let before = (all.len(), unseen.len());
        for entry in walk {
            let entry = match entry {
                Ok(entry) => entry,
                Err(error) => {
                    let denied = error.io_error().is_some_and(|error| error.kind() == std::io::ErrorKind::PermissionDenied);
                    let kind = if denied { ProblemKind::Denied } else { ProblemKind::Missing };
                    unseen.push(Problem::new(kind, what(), error.to_string()));
                    continue;
                }
            };
            let name = StoragePath::from_bytes(entry.file_name().as_bytes());
            if !entry.file_type().is_file() || !name.is_ok_and(|name| looks_like_media(&name)) {
                continue;
            }
            let below = entry.path().parent().and_then(|folder| folder.strip_prefix(path).ok());
            let folder = below.map_or_else(String::new, |folder| folder.to_string_lossy().into_owned());
            all.push(Input { path: entry.into_path(), folder });
        }
        if (all.len(), unseen.len()) == before {
            return Err(Problem::new(ProblemKind::NotMedia, what(), "there is no media in it"));
        }
    }
    Ok((all, unseen))
}

/// Makes all outputs of one file. Whatever happens to it, the next file gets its turn.
#[allow(clippy::too_many_arguments)]
async fn encode_file(
    task: &EncodeTask,
    engine: &Engine,
    file: &Input,
    number: usize,
    out: &Path,
    presets: &[Preset],
    overrides: &PresetPatch,
    protected: &[FileId],
    bars: &MultiProgress,
    all: &mut Report,
) {
    let name = file.path.display().to_string();
    let empty = |preset: &Preset| OutputReport {
        source: name.clone(),
        preset: preset.id.clone(),
        plan: None,
        file: None,
        beside: Vec::new(),
        skipped: false,
        withheld: None,
        size_before: ByteSize(0),
        size_after: None,
        check: None,
        problem: None,
    };
    let read = async {
        let source = source_ref(&file.path, task.choice.sequence)?;
        let reading = read(engine, &source, &task.choice).await?;
        let overrides = marked(&reading, overrides, &task.choice.ins, &task.outs, &name)?;
        Ok((source.known_by(&reading), reading, overrides))
    };
    let (source, reading, overrides) = match read.await {
        Ok(read) => read,
        Err(problem) => {
            tell(task, &problem);
            all.outputs.extend(presets.iter().map(|preset| OutputReport { problem: Some(problem.clone()), ..empty(preset) }));
            return;
        }
    };
    let mut underway = Vec::new();
    for preset in presets {
        let mut report = OutputReport { size_before: reading.facts.size, ..empty(preset) };
        let prepared = plan_for(&reading, preset, &overrides, &name).and_then(|plan| {
            report.plan = Some(plan.clone());
            prepare(plan, task.name.as_deref().unwrap_or(&preset.name_pattern), (&source, &reading), (number, &file.folder), out)
        });
        match prepared {
            Ok((run, stem)) if ClashRule::from(task.if_exists) == ClashRule::Skip && is_taken(out, &stem, &run.plan) => {
                report.skipped = true;
                all.outputs.push(report);
            }
            Ok((run, stem)) => underway.push(Underway { bar: bar(bars, &name, preset), run, stem, report }),
            Err(problem) => {
                tell(task, &problem);
                all.outputs.push(OutputReport { problem: Some(problem), ..report });
            }
        }
    }
    if !underway.is_empty() {
        follow(task, engine, source, &mut underway, out, protected, all).await;
    }
    for output in underway {
        if let Some(problem) = &output.report.problem {
            output.bar.abandon_with_message("failed");
            tell(task, problem);
        }
        all.outputs.push(output.report);
    }
}

/// Which file it is, whatever path leads to it.
fn id_of(file: &Path) -> Option<FileId> {
    let reference = file_ref(file).ok()?;
    FileId::of(reference.folder().ok()?, &reference.path)
}

fn tell(task: &EncodeTask, problem: &Problem) {
    if !task.json {
        report(problem);
    }
}

fn bar(bars: &MultiProgress, name: &str, preset: &Preset) -> ProgressBar {
    let style = ProgressStyle::with_template("{prefix:40!} {bar:30} {percent:>3} % {msg}")
        .unwrap_or_else(|_| ProgressStyle::default_bar());
    bars.add(ProgressBar::new(1000).with_style(style).with_prefix(format!("{} → {}", short(name), preset.name)))
}

fn short(name: &str) -> &str {
    name.rsplit('/').next().unwrap_or(name)
}

/// A file as the system names it; a path in words would show some letters by their numbers.
fn below(folder: &Path, path: &StoragePath) -> PathBuf {
    folder.join(OsStr::from_bytes(path.as_bytes()))
}

fn is_taken(out: &Path, stem: &StoragePath, plan: &Plan) -> bool {
    candidates(stem, &endings(plan), 1).is_ok_and(|paths| paths.iter().any(|path| below(out, path).exists()))
}

fn prepare(
    plan: Plan,
    pattern: &str,
    (source, Reading { facts, .. }): (&SourceRef, &Reading),
    (number, folder): (usize, &str),
    out: &Path,
) -> Result<(EncodeRun, StoragePath), Problem> {
    let named = NamedSource {
        stem: source.file.path.stem(),
        folder,
        date: chrono::Local::now().date_naive(),
        counter: u32::try_from(number + 1).unwrap_or(u32::MAX),
        reel: facts.reel.as_deref(),
        timecode: facts.timecode.as_deref(),
        sheet: None,
    };
    let parts = NameParts::of(&plan);
    let name = parts.name(pattern, &named)?;
    let stem = StoragePath::from_bytes(name.as_bytes()).map_err(|error| not_named(&error))?;
    let id = Uuid::new_v4();
    open_folder(out, &stem.parent())?;
    let temporaries = temporary_names(&stem, &id, parts.endings.len())?;
    let assets = assets_of(&plan)?;
    let root = out.to_str().ok_or_else(|| not_named(&"the name of the output folder is not UTF-8"))?;
    let outputs = temporaries.into_iter().map(|path| FileRef::within(root.to_owned(), path)).collect();
    Ok((EncodeRun { id, plan, outputs, assets }, stem))
}

/// The tables and pictures that a plan calls by name: on the command line, names of files.
pub(crate) fn assets_of(plan: &Plan) -> Result<Vec<Asset>, Problem> {
    let names = plan.steps().iter().filter_map(|step| match step.asset()? {
        AssetName::Lut(FENMARK_LOG) => None,
        AssetName::Lut(name) | AssetName::Picture(name) => Some(name),
    });
    names.map(|name| Ok(Asset { name: name.to_owned(), file: file_ref(Path::new(name))? })).collect()
}

async fn follow(
    task: &EncodeTask,
    engine: &Engine,
    source: SourceRef,
    underway: &mut [Underway],
    out: &Path,
    protected: &[FileId],
    all: &mut Report,
) {
    let job = Job::Encode { source, runs: underway.iter().map(|output| output.run.clone()).collect(), share: 1 };
    let mut running = match engine.start(&job).await {
        Ok(running) => running,
        Err(problem) => {
            underway.iter_mut().for_each(|output| output.report.problem = Some(problem.clone()));
            return;
        }
    };
    let control = running.control();
    loop {
        let event = tokio::select! {
            event = running.next() => event,
            // Ctrl-C: the engine puts its things away.
            Ok(()) = tokio::signal::ctrl_c() => {
                control.say(beryl_core::protocol::Command::Cancel);
                continue;
            }
        };
        match event {
            Some(Event::Run { id, news }) => {
                if let Some(output) = underway.iter_mut().find(|output| output.run.id == id) {
                    take_news(task, output, out, protected, news);
                }
            }
            Some(Event::Failed { problem }) => {
                for output in underway.iter_mut().filter(|output| output.report.file.is_none() && output.report.problem.is_none())
                {
                    output.temporaries().for_each(|temporary| drop(remove_temporary(out, temporary)));
                    output.report.problem = Some(problem.clone());
                }
            }
            Some(Event::Ended { cpu_seconds, wall_seconds, peak_memory, planned_memory }) => {
                all.cpu_seconds += cpu_seconds;
                all.wall_seconds += wall_seconds;
                all.peak_memory = all.peak_memory.max(peak_memory);
                all.planned_memory = all.planned_memory.max(planned_memory);
            }
            Some(Event::Answer(_)) => {}
            None => return,
        }
    }
}

fn take_news(task: &EncodeTask, output: &mut Underway, out: &Path, protected: &[FileId], news: RunNews) {
    match news {
        RunNews::Progress { progress } => {
            show(&output.bar, progress);
            if task.json {
                json_line(&Line::Progress { source: &output.report.source, preset: &output.report.preset, progress });
            }
        }
        RunNews::Written { measured } => {
            let check = judge(&output.run.plan, &measured);
            let problem = problem_of(&output.run.plan, &measured, &check);
            let size = check.size;
            output.report.check = Some(check);
            match problem.map_or_else(|| finish(output, out, protected, task.if_exists.into()), Err) {
                Ok(Some(paths)) => {
                    let (before, after) = (output.report.size_before, size);
                    output.report.size_after = Some(after);
                    let mut files = paths.iter().map(|path| below(out, path).display().to_string());
                    output.report.file = files.next();
                    output.report.beside = files.collect();
                    output.bar.set_position(1000);
                    output.bar.finish_with_message(format!("{before} → {after}, checked"));
                }
                Ok(None) => output.report.skipped = true,
                // What took a night to make is not thrown away: it waits for a person under a name of its own.
                Err(problem) => {
                    let files: Vec<StoragePath> = output.temporaries().cloned().collect();
                    let kept = withhold(out, &files, &output.stem, &endings(&output.run.plan)).unwrap_or_default();
                    output.report.withheld = kept.first().map(|path| below(out, path).display().to_string());
                    let next = match &output.report.withheld {
                        Some(file) => format!("Look at {file}, which was kept. {}", problem.next),
                        None => problem.next.clone(),
                    };
                    output.report.problem = Some(problem.with_next(next));
                }
            }
        }
        RunNews::Failed { problem } => output.report.problem = Some(problem),
        RunNews::Reading => {}
    }
}

fn show(bar: &ProgressBar, progress: Progress) {
    // A fraction of one, a thousand steps.
    #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss)]
    bar.set_position((progress.fraction * 1000.0) as u64);
    let left = progress.remaining.map_or_else(String::new, |seconds| format!(" · {} left", human(seconds)));
    let task = match progress.task {
        Task::Analyse => "analysing, ",
        Task::Encode => "",
        Task::ReadBack => "reading back, ",
    };
    bar.set_message(format!("{task}{:.1}×{left}", progress.speed));
}

/// Gives the files their names; nothing where the rule says that the old ones stay.
fn finish(output: &Underway, out: &Path, protected: &[FileId], rule: ClashRule) -> Result<Option<Vec<StoragePath>>, Problem> {
    let replacing = if rule == ClashRule::Replace { Replacing::AllBut(protected.to_vec()) } else { Replacing::Never };
    let endings = endings(&output.run.plan);
    for number in 1..MOST_NUMBERS {
        let targets = candidates(&output.stem, &endings, number)?;
        let placing = output.temporaries().zip(&targets).map(|(temporary, target)| {
            Ok(Placing { temporary: temporary.clone(), target: target.clone(), made: made(out, temporary)? })
        });
        let placing: Vec<Placing> = placing.collect::<Result<_, Problem>>()?;
        match place(out, &placing, &replacing)? {
            Placed::Done => return Ok(Some(targets)),
            Placed::Protected(file) => {
                let what = format!("{} was not replaced", targets[file].name());
                return Err(Problem::new(ProblemKind::NameTaken, what, "it is one of the sources"));
            }
            Placed::Missing(file) => {
                let what = format!("{} could not be named", targets[file].name());
                return Err(Problem::new(ProblemKind::Missing, what, "it is not there any more"));
            }
            Placed::Taken(_) if rule == ClashRule::Skip => {
                output.temporaries().try_for_each(|temporary| remove_temporary(out, temporary))?;
                return Ok(None);
            }
            Placed::Taken(_) => {}
        }
    }
    Err(Problem::new(ProblemKind::NameTaken, "the output cannot be named", "ten thousand numbers are taken"))
}
