//! What the threads of one run share.

use std::collections::BTreeMap;
use std::fs::File;
use std::path::PathBuf;
use std::sync::atomic::{AtomicBool, AtomicI64, AtomicU64, Ordering};
use std::sync::{Mutex, MutexGuard, OnceLock, PoisonError};
use std::time::Duration;

use beryl_core::after::check::{Given, Look, LookAt, Measured};
use beryl_core::flow::tasks::{Course, Progress, Task, TaskGraph};
use beryl_core::plan::{Artifact, Plan};
use beryl_core::problem::Problem;
use beryl_core::protocol::{EncodeRun, FileRef, SourceRef};
use beryl_core::time::Rational;
use beryl_core::timeline::{Anchor, MOST_LISTED, Remark};

use crate::control::Control;
use crate::encoders::Pass;
use crate::looks::{self, Sketches};
use crate::raw::{AvError, Frame, bytes_moved, pixel_format};

/// One run while it is worked on.
pub(crate) struct Work<'a> {
    pub(crate) run: &'a EncodeRun,
    /// What it yields, with the plan of each file.
    pub(crate) artifacts: Vec<(Artifact, Plan)>,
    /// Whether the file under each temporary name is this run's own.
    pub(crate) created: Vec<bool>,
    /// Those files, until their muxers take them.
    files: Mutex<Vec<Option<std::io::Result<File>>>>,
    /// Where the encoder keeps the notes of the first pass, where it wants a file.
    pub(crate) notes_file: PathBuf,
    problem: Mutex<Option<Problem>>,
    frames: AtomicU64,
    /// Microseconds of the output.
    position: AtomicI64,
    /// Of each file, bytes written, and bytes of the finished file that are read back; nothing before.
    bytes: Vec<AtomicU64>,
    read_back: Mutex<Vec<Option<u64>>>,
    /// What was found in each file, once it is read back.
    measured: Mutex<Vec<Option<Measured>>>,
    written: AtomicBool,
    /// Nanoseconds of processor time.
    cost: AtomicU64,
    /// How its tasks have gone so far.
    course: Mutex<Course>,
    /// Pictures that went into the encoder in this task.
    sketches: Mutex<Sketches>,
    /// What went into the encoder of each stream in this task.
    given: Mutex<BTreeMap<usize, Given>>,
    /// What an encoder without a notes file hands from the first pass to the second.
    pub(crate) notes: Mutex<String>,
}

/// A task of a run that goes over the source.
#[derive(Clone, Copy)]
pub(crate) struct TaskOverSource<'a> {
    pub(crate) work: &'a Work<'a>,
    /// Its place in the run's graph.
    place: usize,
    /// What it is for the encoder of the picture.
    pub(crate) pass: Pass,
}

impl TaskOverSource<'_> {
    pub(crate) fn begin(&self) {
        self.work.begin(self.place);
    }

    /// Whether files are written in it.
    pub(crate) fn writes(&self) -> bool {
        self.pass != Pass::First
    }
}

/// What the threads of one round find out about the source.
#[derive(Default)]
pub(crate) struct SourceNotes {
    /// Microseconds of the end of the last frame of picture, from the beginning of what is made.
    last: AtomicI64,
    faults: AtomicU64,
    remarks: Mutex<Vec<Remark>>,
    /// Pictures as they came out of the decoder, with the source's own stamps.
    sketches: Mutex<Sketches>,
    /// Where reading can begin, in a source whose clock jumps.
    anchors: OnceLock<Vec<Anchor>>,
    looks: OnceLock<Vec<Look>>,
}

impl SourceNotes {
    /// Notes the places that were met from which reading can begin.
    pub(crate) fn note_anchors(&self, mut anchors: Vec<Anchor>) {
        // Parts of a source are read in the order in which they are wanted.
        anchors.sort_by_key(|anchor| anchor.at);
        // Each source is read once.
        drop(self.anchors.set(anchors));
    }

    /// Notes a picture that came out of the decoder. Palettes come with the first packet, so pictures with one cannot be
    /// decoded from elsewhere.
    pub(crate) fn sketch(&self, frame: &Frame, stamp: Rational) -> Result<(), AvError> {
        if pixel_format(frame.format()).is_some_and(|(name, _)| name == "pal8") {
            return Ok(());
        }
        self.sketches.lock().unwrap_or_else(PoisonError::into_inner).take(frame, stamp)
    }

    /// Looks at the source again, once for all outputs of it. Where its clock jumps, moments are found by the anchors
    /// that were met, and without any not at all.
    pub(crate) fn look_again(&self, source: &SourceRef, stream: usize, origin: Rational, allowance: Duration) -> Vec<Look> {
        let jumps = self.remarks().iter().any(|remark| matches!(remark, Remark::ClockJump { .. }));
        let mut source = source.clone();
        if let Some(anchors) = self.anchors.get().filter(|_| source.clock.anchors.is_empty()) {
            source.clock.anchors.clone_from(anchors);
        }
        if jumps && source.clock.anchors.is_empty() {
            return Vec::new();
        }
        let look = || {
            let sketches = self.sketches.lock().unwrap_or_else(PoisonError::into_inner);
            // What cannot be opened again says nothing of what was made of it.
            looks::of_source(&source, stream, &sketches, origin, allowance).unwrap_or_default()
        };
        self.looks.get_or_init(look).clone()
    }

    /// Notes that a frame of picture ends at `time`.
    pub(crate) fn note_end(&self, time: Rational) {
        self.last.fetch_max(microseconds(time), Ordering::Relaxed);
    }

    pub(crate) fn end(&self) -> Option<Rational> {
        Rational::new(self.last.load(Ordering::Relaxed), 1_000_000).filter(|end| end.is_positive())
    }

    /// Notes something that could not be decoded; what lies close together is one remark.
    pub(crate) fn note_fault(&self, place: Option<Rational>) {
        self.faults.fetch_add(1, Ordering::Relaxed);
        let mut remarks = self.remarks.lock().unwrap_or_else(PoisonError::into_inner);
        let near = |at: Option<Rational>| match (at, place) {
            (Some(at), Some(place)) => (at - place).abs() < FAULTS_TOGETHER,
            (None, None) => true,
            _ => false,
        };
        let known = remarks.iter_mut().rev().find_map(|remark| match remark {
            Remark::Fault { at, count } if near(*at) => Some(count),
            _ => None,
        });
        match known {
            Some(count) => *count += 1,
            None => push(&mut remarks, Remark::Fault { at: place, count: 1 }),
        }
    }

    pub(crate) fn faults(&self) -> u64 {
        self.faults.load(Ordering::Relaxed)
    }

    pub(crate) fn remark(&self, remark: Remark) {
        push(&mut self.remarks.lock().unwrap_or_else(PoisonError::into_inner), remark);
    }

    pub(crate) fn remarks(&self) -> Vec<Remark> {
        self.remarks.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }
}

/// Faults that are less than this apart are told of as one.
const FAULTS_TOGETHER: Rational = Rational::whole(2);

fn push(remarks: &mut Vec<Remark>, remark: Remark) {
    if remarks.len() < MOST_LISTED {
        remarks.push(remark);
    }
}

fn microseconds(time: Rational) -> i64 {
    (time * Rational::whole(1_000_000)).round()
}

impl<'a> Work<'a> {
    pub(crate) fn new(run: &'a EncodeRun, files: Vec<std::io::Result<File>>, notes_file: PathBuf) -> Self {
        let artifacts = run.plan.artifacts().into_iter().map(|artifact| {
            let plan = artifact.plan(&run.plan);
            (artifact, plan)
        });
        let artifacts: Vec<_> = artifacts.collect();
        let count = artifacts.len();
        Self {
            run,
            artifacts,
            created: files.iter().map(std::io::Result::is_ok).collect(),
            files: Mutex::new(files.into_iter().map(Some).collect()),
            notes_file,
            problem: Mutex::new(None),
            frames: AtomicU64::new(0),
            position: AtomicI64::new(0),
            bytes: (0..count).map(|_| AtomicU64::new(0)).collect(),
            read_back: Mutex::new(vec![None; count]),
            measured: Mutex::new(vec![None; count]),
            written: AtomicBool::new(false),
            cost: AtomicU64::new(0),
            course: Mutex::new(Course::new(TaskGraph::of(&run.plan), run.plan.known_duration().to_f64())),
            sketches: Mutex::new(Sketches::default()),
            given: Mutex::new(BTreeMap::new()),
            notes: Mutex::new(String::new()),
        }
    }

    fn course(&self) -> MutexGuard<'_, Course> {
        self.course.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The next of its tasks that goes over the source.
    pub(crate) fn next_over_source(&self) -> Option<TaskOverSource<'_>> {
        let course = self.course();
        let place = course.next_over_source()?;
        let pass = match course.graph().nodes()[place].task {
            Task::Analyse => Pass::First,
            Task::Encode | Task::ReadBack if course.graph().has_notes(place) => Pass::Second,
            Task::Encode | Task::ReadBack => Pass::Single,
        };
        Some(TaskOverSource { work: self, place, pass })
    }

    /// The file to write an artifact into, once.
    pub(crate) fn take_file(&self, artifact: usize) -> std::io::Result<File> {
        let mut files = self.files.lock().unwrap_or_else(PoisonError::into_inner);
        let taken = files.get_mut(artifact).and_then(Option::take);
        taken.unwrap_or_else(|| Err(std::io::Error::other("its file was not created, or was begun already")))
    }

    /// “The output could not be made”, with the preset's name.
    pub(crate) fn what(&self) -> String {
        format!("{} could not be made", self.run.plan.preset_name)
    }

    /// Ends the run with a problem; the first one counts.
    pub(crate) fn fail(&self, problem: Problem) {
        self.problem.lock().unwrap_or_else(PoisonError::into_inner).get_or_insert(problem);
    }

    pub(crate) fn problem(&self) -> Option<Problem> {
        self.problem.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// Whether anybody still waits for it.
    pub(crate) fn is_wanted(&self, control: &Control) -> bool {
        if control.is_cancelled(self.run.id) {
            self.fail(Problem::new(beryl_core::problem::ProblemKind::Cancelled, self.what(), "it was cancelled"));
        }
        self.problem.lock().unwrap_or_else(PoisonError::into_inner).is_none()
    }

    fn begin(&self, place: usize) {
        self.course().begin(place);
        self.frames.store(0, Ordering::Relaxed);
        self.position.store(0, Ordering::Relaxed);
        self.given.lock().unwrap_or_else(PoisonError::into_inner).clear();
        *self.sketches.lock().unwrap_or_else(PoisonError::into_inner) = Sketches::default();
    }

    /// Notes a picture that goes into the encoder.
    pub(crate) fn sketch(&self, frame: &Frame, time: Rational) -> Result<(), AvError> {
        self.sketches.lock().unwrap_or_else(PoisonError::into_inner).take(frame, time)
    }

    /// Looks at the finished file where pictures went in. In one that cannot be opened again, all are missing.
    pub(crate) fn look_again(&self, file: &FileRef, allowance: Duration) -> Vec<Look> {
        let file = SourceRef::of(file.clone());
        let missing = |_| vec![Look { at: LookAt::File, time: Rational::ZERO, difference: None }];
        looks::of_file(&file, &self.sketches.lock().unwrap_or_else(PoisonError::into_inner), allowance).unwrap_or_else(missing)
    }

    /// Notes that so many frames or samples more went into the encoder of a stream, which end at `end`.
    pub(crate) fn give(&self, slot: usize, count: u64, end: Rational) {
        let mut given = self.given.lock().unwrap_or_else(PoisonError::into_inner);
        let slot_number = u32::try_from(slot).unwrap_or(u32::MAX);
        let given = given.entry(slot).or_insert(Given { slot: slot_number, count: 0, end: Rational::ZERO });
        (given.count, given.end) = (given.count + count, given.end.max(end));
    }

    /// What went into the encoders of an artifact's streams.
    pub(crate) fn given(&self, artifact: usize) -> Vec<Given> {
        let given = self.given.lock().unwrap_or_else(PoisonError::into_inner);
        let of_slot = |(slot, whole): (u32, usize)| given.get(&whole).map(|given| Given { slot, ..*given });
        (0..).zip(self.artifacts[artifact].0.slots(&self.run.plan)).filter_map(of_slot).collect()
    }

    /// In which file a stream of the whole stands, and where there.
    pub(crate) fn place_of(&self, slot: usize) -> Option<(usize, usize)> {
        let mut files = self.artifacts.iter().enumerate();
        files.find_map(|(file, (artifact, _))| Some((file, artifact.slots(&self.run.plan).position(|own| own == slot)?)))
    }

    /// The task that goes on is done, after so long.
    pub(crate) fn end_task(&self, elapsed: Duration) {
        self.course().end(elapsed.as_secs_f64());
    }

    /// Notes that the output has come to `position`, seconds from its beginning.
    pub(crate) fn reach(&self, position: Rational) {
        self.position.fetch_max(microseconds(position), Ordering::Relaxed);
    }

    pub(crate) fn count_frame(&self) {
        self.frames.fetch_add(1, Ordering::Relaxed);
    }

    pub(crate) fn frames(&self) -> u64 {
        self.frames.load(Ordering::Relaxed)
    }

    pub(crate) fn add_cost(&self, cost: Duration) {
        self.cost.fetch_add(u64::try_from(cost.as_nanos()).unwrap_or(u64::MAX), Ordering::Relaxed);
    }

    /// The processor time that was charged to it.
    pub(crate) fn cost(&self) -> Duration {
        Duration::from_nanos(self.cost.load(Ordering::Relaxed))
    }

    /// The task that goes on turns out to take this part of the run's time.
    pub(crate) fn weigh(&self, share: f64) {
        self.course().weigh(share);
    }

    pub(crate) fn set_bytes(&self, artifact: usize, bytes: u64) {
        self.bytes[artifact].store(bytes, Ordering::Relaxed);
    }

    /// Whether this was the first to say that all is written and is being read back.
    pub(crate) fn begin_reading(&self, artifact: usize) -> bool {
        let mut read_back = self.read_back.lock().unwrap_or_else(PoisonError::into_inner);
        read_back[artifact] = Some(0);
        read_back.iter().all(Option::is_some)
    }

    /// Keeps what was found in a file; answers what was found in all, once the last one is read back.
    pub(crate) fn keep_measured(&self, artifact: usize, found: Measured) -> Option<Vec<Measured>> {
        let mut measured = self.measured.lock().unwrap_or_else(PoisonError::into_inner);
        measured[artifact] = Some(found);
        let all: Vec<Measured> = measured.iter().cloned().collect::<Option<_>>()?;
        self.written.store(true, Ordering::Relaxed);
        Some(all)
    }

    pub(crate) fn is_written(&self) -> bool {
        self.written.load(Ordering::Relaxed)
    }

    pub(crate) fn progress(&self, elapsed: Duration) -> Progress {
        let position = self.position.load(Ordering::Relaxed) as f64 / 1e6;
        let measured = self.course().progress(position, elapsed.as_secs_f64());
        let bytes = self.bytes.iter().map(|bytes| bytes.load(Ordering::Relaxed)).sum();
        let read_back: Option<u64> = self.read_back.lock().unwrap_or_else(PoisonError::into_inner).iter().copied().sum();
        let read_back = read_back.map(|read| if bytes > 0 { (read as f64 / bytes as f64).min(1.0) } else { 0.0 });
        let task = if read_back.is_some() { Task::ReadBack } else { measured.task };
        Progress { task, frames: self.frames(), bytes, read_back, moved: bytes_moved(), ..measured }
    }

    /// Notes how many bytes of a finished file are read back.
    pub(crate) fn set_read_back(&self, artifact: usize, bytes: u64) {
        self.read_back.lock().unwrap_or_else(PoisonError::into_inner)[artifact] = Some(bytes);
    }
}
