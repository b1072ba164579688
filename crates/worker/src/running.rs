//! An engine at work, and what is said to it.

use std::collections::{HashMap, VecDeque};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use beryl_core::flow::tasks::Progress;
use beryl_core::problem::{Problem, ProblemKind};
use beryl_core::protocol::{Answer, Command, Event, Job, LOST_AFTER, NOT_CONFINED, PROTOCOL, RunNews, Said};
use futures::StreamExt;
use tokio::io::{AsyncRead, AsyncWriteExt};
use tokio::sync::{OwnedSemaphorePermit, mpsc};
use tokio::task::JoinHandle;
use tokio::time::{Instant, timeout, timeout_at};
use tokio_util::codec::{FramedRead, LinesCodec};
use uuid::Uuid;

use crate::place::{Link, Process};

/// The longest line of an engine, in bytes: the curves of a day of film are a tenth of it.
const LONGEST_LINE: usize = 64 << 20;
/// Events that wait for whoever follows the job; more make the engine wait.
const MOST_WAITING: usize = 256;
/// The longest line of its standard error.
const LONGEST_NOTE: usize = 4096;
/// Lines of its standard error that are kept for whoever asks why it was lost.
const NOTES_KEPT: usize = 40;

/// Says things to a running engine.
#[derive(Debug, Clone)]
pub struct JobControl {
    commands: mpsc::UnboundedSender<Command>,
    paused: Arc<AtomicBool>,
}

impl JobControl {
    /// Whether both speak to the same engine.
    #[must_use]
    pub fn is_same_job(&self, other: &Self) -> bool {
        self.commands.same_channel(&other.commands)
    }

    /// Whether it was last told to stand still.
    #[must_use]
    pub fn is_paused(&self) -> bool {
        self.paused.load(Ordering::Relaxed)
    }

    /// Says `command`; where the engine is gone already, nothing happens.
    pub fn say(&self, command: Command) {
        match &command {
            Command::Pause => self.paused.store(true, Ordering::Relaxed),
            Command::Resume => self.paused.store(false, Ordering::Relaxed),
            Command::CancelRun { .. } | Command::Cancel | Command::Still(_) => {}
        }
        let _gone_already = self.commands.send(command);
    }
}

/// How long is waited for an engine.
#[derive(Debug, Clone, Copy)]
pub struct Patience {
    /// One that moves nothing for so long is ended, although it is there.
    pub standstill: Duration,
    /// One that is not heard for so long is lost.
    pub silence: Duration,
}

impl Default for Patience {
    fn default() -> Self {
        Self { standstill: Duration::from_secs(180), silence: LOST_AFTER }
    }
}

/// What was heard of an engine.
enum Heard {
    Event(Event),
    /// It says nothing more.
    Closed,
    /// It has said nothing for too long.
    Silent,
    /// What it says cannot be understood, for this reason.
    Strange(String),
}

/// An engine at work.
#[derive(Debug)]
pub struct RunningJob {
    process: Box<dyn Process>,
    heard: mpsc::Receiver<Heard>,
    /// What it said on its standard error, once that has ended.
    notes: JoinHandle<VecDeque<String>>,
    control: JobControl,
    _place: OwnedSemaphorePermit,
    pub(crate) ended: bool,
    patience: Patience,
    moved: Instant,
    /// What each run had done when it was last told.
    seen: HashMap<Uuid, u64>,
}

impl RunningJob {
    /// Gives a job to an engine that was started.
    pub(crate) fn begin(link: Link, job: &Job, place: OwnedSemaphorePermit, patience: Patience) -> Result<Self, Problem> {
        let Link { mut input, output, notes: beside, process } = link;
        let failed = |error: serde_json::Error| Problem::from_io("the engine could not be started", &error.into());
        let mut line = serde_json::to_vec(job).map_err(failed)?;
        line.push(b'\n');
        let (commands, mut to_engine) = mpsc::unbounded_channel::<Command>();
        // The task owns the engine's input: when all handles are gone, the input ends and so does the engine.
        tokio::spawn(async move {
            let mut written = input.write_all(&line).await;
            while let (Ok(()), Some(command)) = (&written, to_engine.recv().await) {
                let Ok(mut line) = serde_json::to_vec(&command) else { continue };
                line.push(b'\n');
                written = input.write_all(&line).await;
            }
        });
        let (to_follower, heard) = mpsc::channel(MOST_WAITING);
        tokio::spawn(listen(output, to_follower, patience.silence));
        Ok(Self {
            process,
            heard,
            notes: tokio::spawn(notes(beside)),
            control: JobControl { commands, paused: Arc::default() },
            _place: place,
            ended: false,
            patience,
            moved: Instant::now(),
            seen: HashMap::new(),
        })
    }

    /// A handle for commands.
    #[must_use]
    pub fn control(&self) -> JobControl {
        self.control.clone()
    }

    /// Counts the time that follows as no standstill, for a job that was paused until now.
    pub fn has_moved(&mut self) {
        self.moved = Instant::now();
    }

    /// The next event; nothing after the last one. Where the engine crashes, is killed, falls silent or stands
    /// still, the last event is a [`Event::Failed`] that says so.
    pub async fn next(&mut self) -> Option<Event> {
        if self.ended {
            return None;
        }
        let Ok(heard) = timeout_at(self.moved + self.patience.standstill, self.heard.recv()).await else {
            let why = format!("it moved nothing for {} seconds and was ended", self.patience.standstill.as_secs());
            return Some(self.given_up(why).await);
        };
        let event = match heard {
            Some(Heard::Event(event)) => event,
            Some(Heard::Silent) => {
                let why = format!("it said nothing for {} seconds and was ended", self.patience.silence.as_secs());
                return Some(self.given_up(why).await);
            }
            Some(Heard::Strange(why)) => return Some(self.given_up(why).await),
            Some(Heard::Closed) | None => return Some(self.lost().await),
        };
        match &event {
            Event::Ended { .. } => self.ended = true,
            // Of several runs each is held against itself alone.
            Event::Run { id, news: RunNews::Progress { progress } } => {
                let done = work_done(progress);
                if self.seen.insert(*id, done) != Some(done) {
                    self.moved = Instant::now();
                }
            }
            Event::Answer(_) | Event::Run { .. } | Event::Failed { .. } => self.moved = Instant::now(),
        }
        Some(event)
    }

    /// Follows the job until `take` has what it waits for; `undone` is what did not come about otherwise.
    pub(crate) async fn answer<T>(
        &mut self,
        undone: &str,
        name: &str,
        mut take: impl FnMut(Answer) -> Option<Result<T, Problem>>,
    ) -> Result<T, Problem> {
        while let Some(event) = self.next().await {
            match event {
                Event::Answer(answer) => {
                    if let Some(outcome) = take(answer) {
                        return outcome;
                    }
                }
                Event::Failed { problem } => {
                    // The job as a whole is over: nothing more can be asked.
                    self.ended = true;
                    return Err(problem);
                }
                Event::Run { .. } | Event::Ended { .. } => {}
            }
        }
        Err(Problem::new(ProblemKind::EngineLost, format!("{name} could not be {undone}"), "the engine gave no answer"))
    }

    /// It is there, and of no use.
    async fn given_up(&mut self, why: String) -> Event {
        self.ended = true;
        self.process.end().await;
        Event::Failed { problem: Problem::new(ProblemKind::EngineLost, "the engine was lost", why) }
    }

    /// It is not there any more.
    async fn lost(&mut self) -> Event {
        self.ended = true;
        let why = self.process.gone().await;
        // What it said is a help, not a need.
        let last_words = (&mut self.notes).await.unwrap_or_default();
        let details = Vec::from(last_words).join("\n");
        Event::Failed { problem: Problem::new(ProblemKind::EngineLost, "the engine was lost", why).with_details(details) }
    }
}

/// A figure that changes with everything that a run does.
const fn work_done(progress: &Progress) -> u64 {
    progress.frames.wrapping_add(progress.moved).wrapping_add(progress.task as u64)
}

/// Takes all that an engine says and passes on what is worth following; that it is there is noted here.
async fn listen(output: impl AsyncRead + Unpin, follower: mpsc::Sender<Heard>, silence: Duration) {
    let mut lines = FramedRead::new(output, LinesCodec::new_with_max_length(LONGEST_LINE));
    let mut is_greeted = false;
    loop {
        let heard = match timeout(silence, lines.next()).await {
            Ok(Some(Ok(line))) => match serde_json::from_str::<Said>(&line) {
                Ok(Said::Hello(hello)) if hello.protocol == PROTOCOL => {
                    is_greeted = true;
                    continue;
                }
                Ok(Said::Alive) => continue,
                Ok(Said::News(event)) if is_greeted => Heard::Event(event),
                // A line that is no event is passed over.
                Err(_) if is_greeted => continue,
                Ok(_) | Err(_) => Heard::Strange("it is of another version than this program".to_owned()),
            },
            Ok(Some(Err(error))) => Heard::Strange(format!("what it says cannot be read: {error}")),
            Ok(None) => Heard::Closed,
            Err(_) => Heard::Silent,
        };
        let is_last = !matches!(heard, Heard::Event(_));
        // Where nobody follows any more, the engine is ended as well.
        if follower.send(heard).await.is_err() || is_last {
            return;
        }
    }
}

/// Takes all that an engine says on its standard error, so that it never waits for somebody to read it. The
/// last lines are kept; what the engine could not do to hold itself goes into the log.
async fn notes(stderr: impl AsyncRead + Unpin) -> VecDeque<String> {
    let mut kept = VecDeque::new();
    let mut lines = FramedRead::new(stderr, LinesCodec::new_with_max_length(LONGEST_NOTE));
    while let Some(line) = lines.next().await {
        // A line that is too long, or is no text, is passed over.
        let Ok(line) = line else { continue };
        if line.starts_with(NOT_CONFINED) {
            tracing::warn!("an engine is {line}");
        }
        if kept.len() == NOTES_KEPT {
            kept.pop_front();
        }
        kept.push_back(line);
    }
    kept
}
