//! What the threads of one run share.

use std::collections::HashMap;
use std::path::PathBuf;
use std::sync::atomic::{AtomicBool, AtomicI64, AtomicU8, AtomicU64, Ordering};
use std::sync::{Mutex, OnceLock, PoisonError};
use std::time::Duration;

use beryl_core::problem::Problem;
use beryl_core::protocol::EncodeRun;
use beryl_core::rational::Rational;
use beryl_core::run::{PassSoFar, Progress};

use super::control::Control;
use crate::encoders::Pass;

/// One run while it is worked on.
pub(crate) struct Work<'a> {
    pub(crate) run: &'a EncodeRun,
    /// Where the encoder keeps the notes of the first pass, where it wants a file.
    pub(crate) notes_file: PathBuf,
    problem: Mutex<Option<Problem>>,
    pass: AtomicU8,
    frames: AtomicU64,
    /// Microseconds of the output.
    position: AtomicI64,
    /// Seconds after the beginning of the pass at which something was told to have come out first, and how far it was.
    first_out: Mutex<Option<(f64, f64)>>,
    bytes: AtomicU64,
    written: AtomicBool,
    /// Nanoseconds of processor time.
    cost: AtomicU64,
    earlier_passes: Mutex<Duration>,
    /// What an encoder without a notes file hands from the first pass to the second.
    pub(crate) notes: Mutex<String>,
}

/// What the threads of one pass find out about the source.
#[derive(Default)]
pub(crate) struct SourceTimes {
    /// Seconds of the first decoded frame of each stream, by the source's own clock.
    firsts: Mutex<HashMap<usize, Rational>>,
    /// Microseconds of the end of the last frame of picture.
    last: AtomicI64,
    faults: AtomicU64,
    pub(crate) picture_start: OnceLock<Rational>,
}

impl SourceTimes {
    pub(crate) fn note_first(&self, stream: usize, time: Rational) {
        self.firsts.lock().unwrap_or_else(PoisonError::into_inner).entry(stream).or_insert(time);
    }

    pub(crate) fn first(&self, stream: usize) -> Option<Rational> {
        self.firsts.lock().unwrap_or_else(PoisonError::into_inner).get(&stream).copied()
    }

    pub(crate) fn note_end(&self, time: Rational) {
        self.last.fetch_max(microseconds(time), Ordering::Relaxed);
    }

    pub(crate) fn end(&self) -> Option<Rational> {
        Rational::new(self.last.load(Ordering::Relaxed), 1_000_000).filter(|end| end.is_positive())
    }

    pub(crate) fn note_fault(&self) {
        self.faults.fetch_add(1, Ordering::Relaxed);
    }

    pub(crate) fn faults(&self) -> u64 {
        self.faults.load(Ordering::Relaxed)
    }
}

fn microseconds(time: Rational) -> i64 {
    (time * Rational::whole(1_000_000)).round()
}

impl<'a> Work<'a> {
    pub(crate) fn new(run: &'a EncodeRun, notes_file: PathBuf) -> Self {
        Self {
            run,
            notes_file,
            problem: Mutex::new(None),
            pass: AtomicU8::new(1),
            frames: AtomicU64::new(0),
            position: AtomicI64::new(0),
            first_out: Mutex::new(None),
            bytes: AtomicU64::new(0),
            written: AtomicBool::new(false),
            cost: AtomicU64::new(0),
            earlier_passes: Mutex::new(Duration::ZERO),
            notes: Mutex::new(String::new()),
        }
    }

    pub(crate) fn passes(&self) -> u8 {
        self.run.plan.passes()
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

    pub(crate) fn begin(&self, pass: Pass) {
        self.pass.store(if pass == Pass::Second { 2 } else { 1 }, Ordering::Relaxed);
        self.frames.store(0, Ordering::Relaxed);
        self.position.store(0, Ordering::Relaxed);
        *self.first_out.lock().unwrap_or_else(PoisonError::into_inner) = None;
    }

    pub(crate) fn end_pass(&self, elapsed: Duration) {
        *self.earlier_passes.lock().unwrap_or_else(PoisonError::into_inner) += elapsed;
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

    /// The processor time that was charged to it, in milliseconds.
    pub(crate) fn cost(&self) -> u64 {
        self.cost.load(Ordering::Relaxed) / 1_000_000
    }

    pub(crate) fn set_bytes(&self, bytes: u64) {
        self.bytes.store(bytes, Ordering::Relaxed);
    }

    pub(crate) fn set_written(&self) {
        self.written.store(true, Ordering::Relaxed);
    }

    pub(crate) fn is_written(&self) -> bool {
        self.written.load(Ordering::Relaxed)
    }

    pub(crate) fn progress(&self, elapsed: Duration) -> Progress {
        let earlier = *self.earlier_passes.lock().unwrap_or_else(PoisonError::into_inner);
        let position = self.position.load(Ordering::Relaxed) as f64 / 1e6;
        let elapsed = elapsed.as_secs_f64();
        let first_out = (position > 0.0).then(|| {
            let mut first = self.first_out.lock().unwrap_or_else(PoisonError::into_inner);
            *first.get_or_insert((elapsed, position))
        });
        let measured = Progress::measure(&PassSoFar {
            pass: self.pass.load(Ordering::Relaxed),
            passes: self.passes(),
            first_share: self.run.plan.first_pass_share(),
            position,
            duration: self.run.plan.known_duration().to_f64(),
            elapsed,
            first_out,
            earlier: earlier.as_secs_f64(),
        });
        Progress { frames: self.frames(), bytes: self.bytes.load(Ordering::Relaxed), ..measured }
    }
}
