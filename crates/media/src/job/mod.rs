//! Making outputs of one source: one decode, shared picture steps, an encoder and a muxer for each.
//!
//! Frames flow through bounded queues between threads: the reader feeds a decoder for each stream,
//! the picture's decoder feeds the [stages](beryl_core::after::stages), each stage the encoders (and
//! stages) that hang on it, each encoder its run's writer. The writer always takes what comes, so
//! that the slowest encoder sets the pace and nothing can lock up. A consumer that gives up drops
//! its end of the queue, and whoever feeds it goes on with the others.

mod by_field;
pub(crate) mod cost;
mod cut;
mod feed;
mod join;
mod outputs;
mod overlay;
mod picture;
mod queue;
mod reader;
mod resample;
mod round;
mod sound;
mod steps;
mod stretch;
mod trial;
mod uniform;
mod wires;
mod work;
mod writer;

use std::path::Path;
use std::sync::Mutex;
use std::time::{Duration, Instant};

use beryl_core::after::memory::{self, Means};
use beryl_core::plan::{Plan, Step};
use beryl_core::problem::{Problem, ProblemKind};
use beryl_core::protocol::{EncodeRun, Event, FileRef, RunNews, SourceRef};

use crate::control::Control;
use crate::means_of_machine;
use crate::source::{open_root, system_path};
use crate::supplies::Supplies;

pub(crate) use feed::feed;
pub use outputs::{Outputs, lies_apart};
pub(crate) use steps::Chain;
pub(crate) use uniform::Uniform;
pub(crate) use wires::{Shared, TimedFrame};
use work::{TaskOverSource, Work};

/// How often progress is told.
const TELL_EVERY: Duration = Duration::from_millis(400);

/// Makes all `runs` of one source, in files that it creates itself; otherwise [`encode_into`].
///
/// # Errors
/// A [`Problem`] that stands for all runs not yet told of, where the source itself is at fault.
pub fn encode(
    source: &SourceRef,
    runs: &[EncodeRun],
    notes: &Path,
    control: &Control,
    tell: &(dyn Fn(Event) + Sync),
) -> Result<(), Problem> {
    encode_into(source, runs, Outputs::create(runs), notes, means_of_machine(1), control, tell)
}

/// Makes all `runs` of one source, in `outputs`. What becomes of each run is told as an event; files that did
/// not come to their end are removed. Encoders write the notes of first passes into `notes`, and what picture
/// steps need beside the pictures is put there.
///
/// # Errors
/// A [`Problem`] that stands for all runs not yet told of, where the source itself is at fault.
pub fn encode_into(
    source: &SourceRef,
    runs: &[EncodeRun],
    outputs: Outputs,
    notes: &Path,
    means: Means,
    control: &Control,
    tell: &(dyn Fn(Event) + Sync),
) -> Result<(), Problem> {
    let work = |(number, run): (usize, _)| Work::new(run, outputs.take(run.id), notes.join(format!("notes-{number}")));
    let works: Vec<Work<'_>> = runs.iter().enumerate().map(work).collect();
    let mut supplies = Supplies::of(source);
    for work in &works {
        if work.run.plan.steps().contains(&Step::Earlier) {
            let why = "its plan was made by an earlier version of the program, which did some steps otherwise";
            work.fail(Problem::new(ProblemKind::Invalid, work.what(), why).with_next("Run it again: it is planned anew then."));
            continue;
        }
        if let Err(problem) = supplies.add(source, work.run.plan.origin, work.run.plan.steps().iter(), &work.run.assets, notes) {
            work.fail(problem);
        }
    }
    let outcome = all_rounds(source, &works, &supplies, Conditions { means, control }, tell);
    for work in &works {
        let failed = if control.stop().is_set() {
            work.fail(Problem::new(ProblemKind::Cancelled, work.what(), "it was cancelled"));
            true
        } else {
            outcome.is_err()
        };
        if failed || work.problem().is_some() {
            // Where a name was taken already, the file is somebody else's.
            work.run.outputs.iter().zip(&work.created).filter(|(_, created)| **created).for_each(|(output, _)| remove(output));
        }
        if let Some(problem) = work.problem() {
            tell(Event::Run { id: work.run.id, news: RunNews::Failed { problem } });
        }
    }
    if control.stop().is_set() { Ok(()) } else { outcome }
}

/// Removes what runs have written under their temporary names.
pub fn remove_temporary_files(runs: &[EncodeRun]) {
    runs.iter().flat_map(|run| &run.outputs).for_each(remove);
}

fn remove(output: &FileRef) {
    if let Ok(folder) = open_root(output) {
        // Where it was never begun there is nothing to remove; what may not be removed, whoever started this removes.
        drop(folder.remove_file(system_path(&output.path)));
    }
}

fn takes_same(one: &Plan, other: &Plan) -> bool {
    one.parts == other.parts && one.origin == other.origin
}

/// What a job works with.
#[derive(Clone, Copy)]
struct Conditions<'a> {
    means: Means,
    control: &'a Control,
}

/// Makes the runs that take the same parts of the source together, as many as the memory holds, one such group after the
/// other.
fn all_rounds(
    source: &SourceRef,
    works: &[Work<'_>],
    supplies: &Supplies,
    conditions: Conditions<'_>,
    tell: &(dyn Fn(Event) + Sync),
) -> Result<(), Problem> {
    let mut groups: Vec<Vec<&Work<'_>>> = Vec::new();
    for work in works {
        match groups.iter_mut().find(|group| takes_same(&group[0].run.plan, &work.run.plan)) {
            Some(group) => group.push(work),
            None => groups.push(vec![work]),
        }
    }
    for group in groups {
        let plans: Vec<&Plan> = group.iter().map(|work| &work.run.plan).collect();
        for fitting in memory::groups(&plans, conditions.means) {
            let fitting: Vec<&Work<'_>> = fitting.into_iter().map(|place| group[place]).collect();
            rounds(source, &fitting, supplies, conditions, tell)?;
        }
    }
    Ok(())
}

/// Goes over the source as often as the tasks of the runs want it: in each round every run takes the next of its own.
fn rounds(
    source: &SourceRef,
    works: &[&Work<'_>],
    supplies: &Supplies,
    conditions: Conditions<'_>,
    tell: &(dyn Fn(Event) + Sync),
) -> Result<(), Problem> {
    loop {
        let wanted = works.iter().filter(|work| work.is_wanted(conditions.control));
        let tasks: Vec<TaskOverSource<'_>> = wanted.filter_map(|work| work.next_over_source()).collect();
        if tasks.is_empty() || conditions.control.stop().is_set() {
            return Ok(());
        }
        follow(source, &tasks, supplies, conditions, tell)?;
    }
}

/// One round, with progress told while it goes on.
fn follow(
    source: &SourceRef,
    tasks: &[TaskOverSource<'_>],
    supplies: &Supplies,
    Conditions { means, control }: Conditions<'_>,
    tell: &(dyn Fn(Event) + Sync),
) -> Result<(), Problem> {
    let fault = Mutex::new(None);
    let (done, finished) = crossbeam_channel::bounded::<()>(0);
    tasks.iter().for_each(TaskOverSource::begin);
    let began = Instant::now();
    let paused_before = control.paused_for();
    std::thread::scope(|scope| {
        round::start(scope, source, tasks, supplies, Shared { control, fault: &fault, means }, tell, done)?;
        let tell_all = || {
            let elapsed = began.elapsed().saturating_sub(control.paused_for().saturating_sub(paused_before));
            for work in tasks.iter().map(|task| task.work).filter(|work| work.is_wanted(control) && !work.is_written()) {
                tell(Event::Run { id: work.run.id, news: RunNews::Progress { progress: work.progress(elapsed) } });
            }
        };
        // All threads hold the other end of this channel and send nothing: it closes with the last.
        while finished.recv_timeout(TELL_EVERY) == Err(crossbeam_channel::RecvTimeoutError::Timeout) {
            tell_all();
        }
        tasks.iter().for_each(|task| task.work.end_task(began.elapsed()));
        Ok(())
    })?;
    match fault.into_inner() {
        Ok(Some(problem)) => Err(problem),
        Ok(None) | Err(_) => Ok(()),
    }
}
