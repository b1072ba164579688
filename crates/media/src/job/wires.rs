//! What the threads of a job share: the wires between them, when they end, and what stops all of them.

use std::sync::{Mutex, PoisonError};
use std::thread::Scope;

use beryl_core::after::memory::Means;
use beryl_core::problem::Problem;
use beryl_core::time::Rational;
use crossbeam_channel::Sender;

use super::queue::Weighed;
use crate::control::Control;
use crate::raw::{AvError, Decoder, EncoderStream, Frame, Packet};

/// Packets, and frames of sound, between two threads.
pub(super) const SMALL_QUEUE: usize = 128;

/// A frame with the clock its time counts by.
pub(crate) struct TimedFrame {
    pub(crate) frame: Frame,
    pub(crate) clock: Rational,
}

/// What comes to the writer of a run.
pub(super) enum ToWriter {
    /// The stream of this slot is known.
    Open { slot: usize, stream: EncoderStream },
    /// A packet of this slot, to be moved by `shift` seconds.
    Packet { slot: usize, packet: Packet, shift: Rational },
    /// Nothing more comes of this slot.
    End { slot: usize },
}

impl Weighed for ToWriter {
    fn bytes(&self) -> u64 {
        match self {
            Self::Packet { packet, .. } => packet.size(),
            Self::Open { .. } | Self::End { .. } => 0,
        }
    }
}

/// What all threads of a round share.
#[derive(Clone, Copy)]
pub(crate) struct Shared<'a> {
    pub(crate) control: &'a Control,
    pub(crate) fault: &'a Mutex<Option<Problem>>,
    pub(crate) means: Means,
}

impl Shared<'_> {
    /// The source is at fault: everything ends.
    pub(super) fn fail_source(&self, problem: Problem) {
        self.fault.lock().unwrap_or_else(PoisonError::into_inner).get_or_insert(problem);
    }

    /// Whether the round goes on; waits while it stands still.
    pub(super) fn goes_on(&self) -> bool {
        self.control.goes_on() && self.fault.lock().unwrap_or_else(PoisonError::into_inner).is_none()
    }
}

pub(super) fn spawn<'scope>(
    scope: &'scope Scope<'scope, '_>,
    name: &str,
    done: &Sender<()>,
    work: impl FnOnce() + Send + 'scope,
) -> Result<(), Problem> {
    let done = done.clone();
    let thread = std::thread::Builder::new().name(name.to_owned()).spawn_scoped(scope, move || {
        work();
        drop(done);
    });
    thread.map(|_| ()).map_err(|error| Problem::from_io("the work could not be begun", &error))
}

pub(super) fn open_decoder(opened: Result<Decoder, AvError>, name: &str) -> Result<Decoder, Problem> {
    opened.map_err(|error| error.problem(format!("{name} could not be decoded"), "no decoder here can read it"))
}

pub(super) fn library_problem(what: &str, error: &AvError) -> Problem {
    error.problem(what, "the codec library refused the settings")
}
