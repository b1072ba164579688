//! The forecast of the night: when which job will run in which engine slot.

use std::collections::HashMap;
use std::hash::Hash;

use serde::Serialize;
use utoipa::ToSchema;

/// A job that an engine works on now.
#[derive(Debug, Clone, PartialEq)]
pub struct JobAtWork<R> {
    /// Its runs.
    pub runs: Vec<R>,
    /// Seconds it still takes if nothing changes.
    pub remaining: f64,
}

/// A run that waits.
#[derive(Debug, Clone, PartialEq)]
pub struct WaitingRun<R, S> {
    /// The run.
    pub run: R,
    /// Its source: runs of one source are made together.
    pub source: S,
    /// Processor seconds it takes.
    pub cpu: f64,
}

/// A job in its place along the clock.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct Block<R> {
    /// The engine slot, from 0.
    pub lane: usize,
    /// What is made.
    pub runs: Vec<R>,
    /// Seconds from now; 0 for what is at work.
    pub start: f64,
    /// Seconds from now.
    pub end: f64,
}

/// Lays jobs out over `lanes` engine slots of a machine with `cores`: those at work, then those
/// that wait in their order, at most `together` runs of one source in a job. All jobs that run at
/// a moment share the cores evenly.
#[must_use]
pub fn lay_out<R: Copy, S: Copy + Eq + Hash>(
    at_work: &[JobAtWork<R>],
    waiting: &[WaitingRun<R, S>],
    lanes: usize,
    cores: usize,
    together: usize,
) -> Vec<Block<R>> {
    let lanes = lanes.max(at_work.len()).max(1);
    let cores = cores.max(1) as f64;
    let share = cores / at_work.len().max(1) as f64;
    let mut open: Vec<Option<(Block<R>, f64)>> = (0..lanes).map(|_| None).collect();
    for (lane, job) in at_work.iter().enumerate() {
        let block = Block { lane, runs: job.runs.clone(), start: 0.0, end: 0.0 };
        open[lane] = Some((block, job.remaining.max(0.0) * share));
    }
    let mut queue = jobs_of(waiting, together.max(1)).into_iter();
    let mut done = Vec::new();
    let mut now = 0.0;
    loop {
        for (lane, slot) in open.iter_mut().enumerate().filter(|(_, slot)| slot.is_none()) {
            let Some((runs, cpu)) = queue.next() else { break };
            *slot = Some((Block { lane, runs, start: now, end: now }, cpu));
        }
        let active = open.iter().flatten().count();
        let Some(least) = open.iter().flatten().map(|(_, left)| *left).min_by(f64::total_cmp) else { break };
        let pace = cores / active as f64;
        now += least / pace;
        for slot in &mut open {
            if let Some((block, left)) = slot {
                *left -= least;
                if *left <= 1e-9 {
                    block.end = now;
                    done.extend(slot.take().map(|(block, _)| block));
                }
            }
        }
    }
    done.sort_by(|one: &Block<R>, other| one.start.total_cmp(&other.start).then(one.lane.cmp(&other.lane)));
    done
}

/// Waiting runs as the jobs that will be claimed: the first, and others of its source with it.
fn jobs_of<R: Copy, S: Copy + Eq + Hash>(waiting: &[WaitingRun<R, S>], together: usize) -> Vec<(Vec<R>, f64)> {
    let mut jobs: Vec<(Vec<R>, f64)> = Vec::new();
    let mut open: HashMap<S, usize> = HashMap::new();
    for run in waiting {
        match open.get(&run.source).and_then(|job| jobs.get_mut(*job)).filter(|(runs, _)| runs.len() < together) {
            Some((runs, cpu)) => {
                runs.push(run.run);
                *cpu += run.cpu;
            }
            None => {
                open.insert(run.source, jobs.len());
                jobs.push((vec![run.run], run.cpu));
            }
        }
    }
    jobs
}
