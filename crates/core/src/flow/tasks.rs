//! What a run does, as a graph of tasks; how far it is and how much time is left follow from it.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::plan::Plan;

/// What a task does.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Task {
    /// Goes over the source for what an encoder has to know of all of it; keeps its notes.
    Analyse,
    /// Encodes with the notes that were kept, and writes the files.
    #[default]
    Encode,
    /// Reads the finished files back, for the check.
    ReadBack,
}

impl Task {
    /// Whether it goes over the source, so that it can share a decode with tasks of other runs.
    #[must_use]
    pub const fn reads_source(self) -> bool {
        match self {
            Self::Analyse | Self::Encode => true,
            Self::ReadBack => false,
        }
    }
}

/// A task in its graph.
#[derive(Debug, Clone, PartialEq)]
pub struct Node {
    /// What it does.
    pub task: Task,
    /// The tasks that have to be done before, by their places; they stand before it.
    pub after: Vec<usize>,
    /// The part of the run's time that it is expected to take, 0 to 1.
    pub share: f64,
}

/// The tasks of a run, each behind those that it waits for.
#[derive(Debug, Clone, PartialEq)]
pub struct TaskGraph(Vec<Node>);

impl TaskGraph {
    /// What has to be done for a plan.
    #[must_use]
    pub fn of(plan: &Plan) -> Self {
        let analysis = plan.first_pass_share();
        let mut nodes = Vec::new();
        nodes.extend(analysis.map(|share| Node { task: Task::Analyse, after: Vec::new(), share }));
        let share = 1.0 - analysis.unwrap_or(0.0);
        nodes.push(Node { task: Task::Encode, after: (0..nodes.len()).collect(), share });
        // Files are read back about as fast as they can be read: no time that is worth foretelling.
        nodes.push(Node { task: Task::ReadBack, after: vec![nodes.len() - 1], share: 0.0 });
        Self(nodes)
    }

    /// The tasks.
    #[must_use]
    pub fn nodes(&self) -> &[Node] {
        &self.0
    }

    /// The tasks that are not done and wait for nothing that is not, by their places.
    pub fn ready(&self, is_done: impl Fn(usize) -> bool) -> impl Iterator<Item = usize> {
        let nodes = self.0.iter().enumerate();
        nodes
            .filter(move |(place, node)| !is_done(*place) && node.after.iter().all(|before| is_done(*before)))
            .map(|(place, _)| place)
    }

    /// Whether a task has notes to go by that a task before it kept.
    #[must_use]
    pub fn has_notes(&self, place: usize) -> bool {
        self.0[place].after.iter().any(|before| self.0[*before].task == Task::Analyse)
    }

    /// A task turns out to take another part of the run's time; all others share the rest as before.
    fn weigh(&mut self, place: usize, share: f64) {
        let others = 1.0 - self.0[place].share;
        for (other, node) in self.0.iter_mut().enumerate() {
            node.share = match other == place {
                true => share,
                false if others > 0.0 => node.share * (1.0 - share) / others,
                false => 0.0,
            };
        }
    }
}

/// How far a run is.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize, ToSchema)]
pub struct Progress {
    /// What it does.
    #[serde(default)]
    pub task: Task,
    /// Frames (or for sound alone, packets) finished in this task.
    pub frames: u64,
    /// Seconds of the output finished in this task.
    pub position: f64,
    /// Bytes written.
    pub bytes: u64,
    /// Seconds of material worked on in a second.
    pub speed: f64,
    /// The part of the whole that is done, 0 to 1.
    pub fraction: f64,
    /// Seconds left, where it can be said.
    pub remaining: Option<f64>,
    /// The part of the finished files that is read back, 0 to 1, once they are written.
    #[serde(default)]
    pub read_back: Option<f64>,
    /// Bytes that the whole job has read and written so far, whatever for: while the number grows, it moves.
    #[serde(default)]
    pub moved: u64,
}

/// How far a task had come when: some of the material takes longer than the rest, in the next task as well.
#[derive(Debug, Clone, PartialEq, Default)]
struct Trace(Vec<(f64, f64)>);

impl Trace {
    /// Notes that the output had come to `position` after `elapsed` seconds.
    fn note(&mut self, position: f64, elapsed: f64) {
        let (last, after) = self.0.last().copied().unwrap_or_default();
        if position > last && elapsed >= after {
            self.0.push((position, elapsed));
        }
    }

    /// The part of the time that had gone when the output had come to `position`; its part of `duration` where
    /// nothing was noted.
    fn part(&self, position: f64, duration: f64) -> f64 {
        let even = if duration > 0.0 { (position / duration).clamp(0.0, 1.0) } else { 0.0 };
        let Some((end, total)) = self.0.last().copied().filter(|(_, total)| *total > 0.0) else { return even };
        if position >= end {
            return 1.0;
        }
        let next = self.0.partition_point(|(noted, _)| *noted <= position);
        let before = next.checked_sub(1).map_or((0.0, 0.0), |place| self.0[place]);
        let (from, to) = (before, self.0[next]);
        let between = (position - from.0) / (to.0 - from.0);
        ((from.1 + (to.1 - from.1) * between) / total).clamp(0.0, 1.0)
    }
}

/// How much what is known from the tasks before counts in a task, whose own pace counts with the square of what is done:
/// it is known badly at first.
const TRUST_IN_EARLIER_TASKS: f64 = 0.2;

/// How the tasks of a run that go over its source have gone so far.
#[derive(Debug, Clone)]
pub struct Course {
    graph: TaskGraph,
    /// Seconds of the output.
    duration: f64,
    /// Seconds that each task took that is done.
    took: Vec<Option<f64>>,
    /// The task that goes on, or went on last.
    at: usize,
    /// Seconds after its beginning at which something had come out first, and what part was done then: encoders take in some
    /// hundred frames before.
    first_out: Option<(f64, f64)>,
    /// How the first of them went on.
    trace: Trace,
}

impl Course {
    /// Nothing is done yet; the output lasts so many seconds.
    #[must_use]
    pub fn new(graph: TaskGraph, duration: f64) -> Self {
        let took = vec![None; graph.nodes().len()];
        Self { graph, duration, took, at: 0, first_out: None, trace: Trace::default() }
    }

    /// The next task that goes over the source.
    #[must_use]
    pub fn next_over_source(&self) -> Option<usize> {
        self.graph.ready(|place| self.took[place].is_some()).find(|place| self.graph.nodes()[*place].task.reads_source())
    }

    /// What is to be done.
    #[must_use]
    pub const fn graph(&self) -> &TaskGraph {
        &self.graph
    }

    /// A task begins.
    pub fn begin(&mut self, place: usize) {
        self.at = place;
        self.first_out = None;
    }

    /// The task that goes on is done; it took so many seconds.
    pub fn end(&mut self, took: f64) {
        self.took[self.at] = Some(took);
    }

    /// The task that goes on turns out to take this part of the run's time.
    pub fn weigh(&mut self, share: f64) {
        self.graph.weigh(self.at, share);
    }

    /// Seconds that the tasks before took, and the part of the run's time that they were to take.
    fn before(&self) -> (f64, f64) {
        let done = self.took.iter().zip(self.graph.nodes()).enumerate().filter(|(place, _)| *place != self.at);
        done.filter_map(|(_, (took, node))| took.map(|took| (took, node.share)))
            .fold((0.0, 0.0), |(took, share), task| (took + task.0, share + task.1))
    }

    /// How far the run is, `elapsed` seconds after the beginning of the task that goes on, of whose output `position`
    /// seconds have come out.
    #[must_use]
    pub fn progress(&mut self, position: f64, elapsed: f64) -> Progress {
        let (earlier, share_before) = self.before();
        let done = if share_before > 0.0 {
            self.trace.part(position, self.duration)
        } else {
            self.trace.note(position, elapsed);
            Trace::default().part(position, self.duration)
        };
        if position > 0.0 {
            self.first_out.get_or_insert((elapsed, done));
        }
        let node = &self.graph.nodes()[self.at];
        let fraction = share_before + done * node.share;
        let worked = earlier + elapsed;
        Progress {
            task: node.task,
            position,
            speed: if worked > 0.0 { fraction * self.duration / worked } else { 0.0 },
            fraction,
            remaining: self.remaining(done, elapsed),
            ..Progress::default()
        }
    }

    /// Seconds that the task that goes on will have taken, where that can be said: its start, and the rest at the pace since.
    fn own_length(&self, done: f64, elapsed: f64) -> Option<f64> {
        let (began, from) = self.first_out?;
        let (gone, took) = (done - from, elapsed - began);
        // Before a hundredth is done any figure would be a guess.
        (gone > 0.01 && took > 0.0).then(|| began + took * (1.0 - from) / gone)
    }

    /// Seconds that are left of all tasks.
    fn remaining(&self, done: f64, elapsed: f64) -> Option<f64> {
        let (earlier, share_before) = self.before();
        let share = self.graph.nodes()[self.at].share;
        let own = self.own_length(done, elapsed).map(|own| own - elapsed);
        let rest = if share_before > 0.0 {
            // What is left of it by the tasks before: a deviation counts for the rest alone.
            let expected = earlier * share / share_before;
            let expected = self
                .first_out
                .map_or(expected - elapsed, |(began, from)| (expected - began).max(0.0) * (1.0 - done) / (1.0 - from));
            let (trust, within) = (TRUST_IN_EARLIER_TASKS, done * done);
            own.map_or(expected, |own| (expected * trust + own * within) / (trust + within))
        } else {
            own?
        };
        let known = share_before + share;
        let later = if known > 0.0 { (earlier + elapsed + rest) * (1.0 - known) / known } else { 0.0 };
        Some((rest + later).max(0.0))
    }
}
