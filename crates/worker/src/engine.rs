//! An engine process and the conversation with it.

use std::collections::{HashMap, VecDeque};
use std::os::unix::process::ExitStatusExt;
use std::path::{Path, PathBuf};
use std::process::{ExitStatus, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use beryl_core::after::quality::Comparison;
use beryl_core::findings::Curves;
use beryl_core::problem::{Problem, ProblemKind};
use beryl_core::protocol::{Answer, Command, Event, FileRef, Job, NOT_CONFINED, PairFilm, Reference, RunNews, SourceRef, Still};
use beryl_core::reading::Reading;
use futures::StreamExt;
use tokio::io::{AsyncRead, AsyncWriteExt};
use tokio::process::{Child, ChildStdout};
use tokio::sync::{OwnedSemaphorePermit, Semaphore, mpsc};
use tokio::task::JoinHandle;
use tokio::time::{Instant, timeout};
use tokio_util::codec::{FramedRead, LinesCodec};
use uuid::Uuid;

use crate::files::remove_temporary;

/// A job that moves nothing for this long is ended.
const STANDSTILL: Duration = Duration::from_secs(180);
/// A probe or a still that takes longer is ended.
const SHORT_JOB: Duration = Duration::from_secs(60);
/// How long an engine may take to go that says nothing more.
const LAST_BREATH: Duration = Duration::from_secs(10);
/// Engines at the same time, whatever they do; further ones wait.
const MOST_ENGINES: usize = 32;
/// The longest line of an engine, in bytes: the curves of a day of film are a tenth of it.
const LONGEST_LINE: usize = 64 << 20;
/// The longest line of its standard error.
const LONGEST_NOTE: usize = 4096;
/// Lines of its standard error that are kept for whoever asks why it was lost.
const NOTES_KEPT: usize = 40;

/// The engine program, and how engines are started and watched.
#[derive(Debug, Clone)]
pub struct Engine {
    program: PathBuf,
    /// Where each engine gets a folder of its own to work in; nothing for the system's.
    scratch: Option<PathBuf>,
    standstill: Duration,
    places: Arc<Semaphore>,
}

impl Engine {
    /// The engine beside the running program, or the one that `BERYL_ENGINE` names.
    ///
    /// # Errors
    /// A [`Problem`] that says where it was looked for.
    pub fn locate() -> Result<Self, Problem> {
        let named = std::env::var_os("BERYL_ENGINE").map(PathBuf::from);
        let beside = || {
            let folder = std::env::current_exe().ok()?.parent()?.to_path_buf();
            // Test programs lie one folder deeper than what they test.
            [folder.join("beryl-engine"), folder.join("../beryl-engine")].into_iter().find(|program| program.is_file())
        };
        match named.or_else(beside).filter(|program| program.is_file()) {
            Some(program) => Ok(Self::at(program)),
            None => Err(Problem::new(
                ProblemKind::Missing,
                "the engine could not be started",
                "the program beryl-engine is not beside this one, and BERYL_ENGINE names none",
            )
            .with_next("Build it with `cargo build --release`, or install both programs into the same folder.")),
        }
    }

    /// The engine that is this program.
    #[must_use]
    pub fn at(program: PathBuf) -> Self {
        Self { program, scratch: None, standstill: STANDSTILL, places: Arc::new(Semaphore::new(MOST_ENGINES)) }
    }

    /// Has each engine work in a folder of its own in `folder`.
    #[must_use]
    pub fn working_in(self, folder: PathBuf) -> Self {
        Self { scratch: Some(folder), ..self }
    }

    /// Has engines ended that move nothing for so long; otherwise it is three minutes.
    #[must_use]
    pub fn ended_after(self, standstill: Duration) -> Self {
        Self { standstill, ..self }
    }

    /// Starts an engine for `job`, once there is a place for one more. Dropping the result ends it.
    ///
    /// # Errors
    /// A [`Problem`] where the process cannot be started.
    pub async fn start(&self, job: &Job) -> Result<RunningJob, Problem> {
        let failed = |error: &std::io::Error| Problem::from_io("the engine could not be started", error);
        let place = Arc::clone(&self.places).acquire_owned().await;
        let place = place.map_err(|error| failed(&std::io::Error::other(error)))?;
        let folder = self.scratch.clone().unwrap_or_else(std::env::temp_dir);
        let scratch = tempfile::Builder::new().prefix("beryl-").tempdir_in(folder).map_err(|error| failed(&error))?;
        let mut child = tokio::process::Command::new(&self.program)
            .current_dir(scratch.path())
            // What the server knows of itself and of its database is nothing for a codec.
            .env_clear()
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .kill_on_drop(true)
            .spawn()
            .map_err(|error| failed(&error))?;
        let (Some(mut stdin), Some(stdout), Some(stderr)) = (child.stdin.take(), child.stdout.take(), child.stderr.take()) else {
            return Err(Problem::new(ProblemKind::Internal, "the engine could not be started", "it has no input or output"));
        };
        let mut line = serde_json::to_vec(job).map_err(|error| failed(&error.into()))?;
        line.push(b'\n');
        let (commands, mut to_engine) = mpsc::unbounded_channel::<Command>();
        // The task owns the engine's input: when all handles are gone, the input ends and so does the engine.
        tokio::spawn(async move {
            let mut written = stdin.write_all(&line).await;
            while let (Ok(()), Some(command)) = (&written, to_engine.recv().await) {
                let Ok(mut line) = serde_json::to_vec(&command) else { continue };
                line.push(b'\n');
                written = stdin.write_all(&line).await;
            }
        });
        Ok(RunningJob {
            child,
            lines: FramedRead::new(stdout, LinesCodec::new_with_max_length(LONGEST_LINE)),
            notes: tokio::spawn(notes(stderr)),
            control: JobControl { commands, paused: Arc::default() },
            _scratch: scratch,
            _place: place,
            ended: false,
            standstill: self.standstill,
            moved: Instant::now(),
            seen: HashMap::new(),
        })
    }

    /// Reads the facts of a source.
    ///
    /// # Errors
    /// A [`Problem`] where the source cannot be read.
    pub async fn probe(&self, source: &SourceRef) -> Result<Reading, Problem> {
        let name = source.file.path.name();
        let mut running = self.start(&Job::Probe { source: source.clone() }).await?;
        let found = running.answer("read", &name, |answer| match answer {
            Answer::Probed { reading } => Some(Ok(*reading)),
            _ => None,
        });
        in_time(&name, found).await
    }

    /// Decodes a source to find out what it is; `progress` is told the seconds of the source that were
    /// looked at. Dropping the future ends the scan.
    ///
    /// # Errors
    /// A [`Problem`] where the source cannot be read.
    pub async fn scan(
        &self,
        source: &SourceRef,
        quick: bool,
        progress: impl Fn(f64) + Send,
    ) -> Result<(Reading, Curves), Problem> {
        let name = source.file.path.name();
        let mut running = self.start(&Job::Scan { source: source.clone(), quick }).await?;
        let found = running.answer("scanned", &name, |answer| match answer {
            Answer::Scanning { position } => {
                progress(position);
                None
            }
            Answer::Scanned { reading, curves } => Some(Ok((*reading, *curves))),
            _ => None,
        });
        found.await
    }

    /// Holds a file against what it was made from; `progress` is told the seconds of the file that were
    /// looked at. Dropping the future ends the comparison.
    ///
    /// # Errors
    /// A [`Problem`] where either cannot be read, or a film that is wanted cannot be written.
    pub async fn compare(
        &self,
        reference: Reference,
        file: SourceRef,
        film: Option<PairFilm>,
        progress: impl Fn(f64) + Send,
    ) -> Result<Comparison, Problem> {
        let name = file.file.path.name();
        let mut running = self.start(&Job::Compare { reference: Box::new(reference), file, film }).await?;
        let compared = running.answer("compared", &name, |answer| match answer {
            Answer::Comparing { position } => {
                progress(position);
                None
            }
            Answer::Compared { comparison } => Some(Ok(*comparison)),
            _ => None,
        });
        compared.await
    }

    /// Opens a source for single pictures, which are written into `folder`. Dropping the result closes it.
    ///
    /// # Errors
    /// A [`Problem`] where the engine cannot be started.
    pub async fn stills(&self, source: &SourceRef, folder: &str) -> Result<OpenStills, Problem> {
        let running = self.start(&Job::Stills { source: source.clone(), folder: folder.to_owned() }).await?;
        Ok(OpenStills { name: source.file.path.name(), running, asked: VecDeque::new() })
    }

    /// Writes one picture of a source.
    ///
    /// # Errors
    /// A [`Problem`] where there is no such picture or it cannot be written.
    pub async fn still(&self, source: &SourceRef, still: Still) -> Result<(), Problem> {
        self.stills(source, &still.output.root).await?.write(still).await
    }
}

/// What comes of a short conversation, or that it took too long.
async fn in_time<T>(name: &str, conversation: impl Future<Output = Result<T, Problem>>) -> Result<T, Problem> {
    timeout(SHORT_JOB, conversation).await.unwrap_or_else(|_| {
        let what = format!("{name} could not be read");
        Err(Problem::new(ProblemKind::EngineLost, what, "the engine took longer than a minute"))
    })
}

/// A source that an engine keeps open for single pictures.
#[derive(Debug)]
pub struct OpenStills {
    name: String,
    running: RunningJob,
    /// Pictures that were asked for and not answered yet: all but the last by somebody who has gone away since.
    asked: VecDeque<FileRef>,
}

impl OpenStills {
    /// Writes a picture. After an error that is no refusal of this picture alone, nothing more can be asked.
    ///
    /// # Errors
    /// A [`Problem`] where there is no such picture or it cannot be written.
    pub async fn write(&mut self, still: Still) -> Result<(), Problem> {
        self.asked.push_back(still.output.clone());
        self.running.control().say(Command::Still(Box::new(still)));
        let asked = &mut self.asked;
        let written = self.running.answer("read", &self.name, |answer| {
            let outcome = match answer {
                Answer::StillWritten => Ok(()),
                Answer::StillRefused { problem } => Err(problem),
                _ => return None,
            };
            let output = asked.pop_front()?;
            if asked.is_empty() {
                return Some(outcome);
            }
            // It was for somebody else, who does not wait any more.
            forget(&output);
            None
        });
        let outcome = in_time(&self.name, written).await;
        // An answer that comes too late would be taken for that to the next question.
        self.running.ended |= matches!(&outcome, Err(problem) if problem.kind == ProblemKind::EngineLost);
        outcome
    }

    /// Whether the engine is still there to be asked.
    #[must_use]
    pub const fn is_open(&self) -> bool {
        !self.running.ended
    }
}

impl Drop for OpenStills {
    fn drop(&mut self) {
        self.asked.iter().for_each(forget);
    }
}

/// Removes a picture that nobody waits for. Where that is not possible now, it goes with the cache.
fn forget(output: &FileRef) {
    drop(remove_temporary(Path::new(&output.root), &output.path));
}

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

/// An engine at work.
#[derive(Debug)]
pub struct RunningJob {
    child: Child,
    lines: FramedRead<ChildStdout, LinesCodec>,
    /// What it said on its standard error, once that has ended.
    notes: JoinHandle<VecDeque<String>>,
    control: JobControl,
    _scratch: tempfile::TempDir,
    _place: OwnedSemaphorePermit,
    ended: bool,
    standstill: Duration,
    moved: Instant,
    /// What each run had done when it was last told.
    seen: HashMap<Uuid, u64>,
}

impl RunningJob {
    /// A handle for commands.
    #[must_use]
    pub fn control(&self) -> JobControl {
        self.control.clone()
    }

    /// Counts the time that follows as no standstill, for a job that was paused until now.
    pub fn has_moved(&mut self) {
        self.moved = Instant::now();
    }

    /// The next event; nothing after the last one. Where the engine crashes, is killed or stands
    /// still, the last event is a [`Event::Failed`] that says so.
    pub async fn next(&mut self) -> Option<Event> {
        if self.ended {
            return None;
        }
        loop {
            let line = match timeout(self.standstill, self.lines.next()).await {
                Ok(Some(Ok(line))) => line,
                Ok(Some(Err(_))) => {
                    // What it says cannot be read: it is of no use. One that is gone already takes no harm.
                    drop(self.child.start_kill());
                    return Some(self.lost().await);
                }
                Ok(None) => return Some(self.lost().await),
                Err(_) => return Some(self.stuck().await),
            };
            let Ok(event) = serde_json::from_str::<Event>(&line) else { continue };
            match &event {
                Event::Ended { .. } => self.ended = true,
                // Of several runs each is held against itself alone.
                Event::Run { id, news: RunNews::Progress { progress } } => {
                    let done = progress.frames.wrapping_add(progress.moved).wrapping_add(u64::from(progress.pass));
                    if self.seen.insert(*id, done) != Some(done) {
                        self.moved = Instant::now();
                    }
                }
                Event::Answer(_) | Event::Run { .. } | Event::Failed { .. } => self.moved = Instant::now(),
            }
            if self.moved.elapsed() > self.standstill {
                return Some(self.stuck().await);
            }
            return Some(event);
        }
    }

    /// Follows the job until `take` has what it waits for; `undone` is what did not come about otherwise.
    async fn answer<T>(
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
                Event::Failed { problem } => return Err(problem),
                Event::Run { .. } | Event::Ended { .. } => {}
            }
        }
        Err(Problem::new(ProblemKind::EngineLost, format!("{name} could not be {undone}"), "the engine gave no answer"))
    }

    async fn stuck(&mut self) -> Event {
        self.ended = true;
        // It may have gone by itself in the meantime.
        drop(self.child.kill().await);
        let why = format!("it moved nothing for {} seconds and was ended", self.standstill.as_secs());
        Event::Failed { problem: Problem::new(ProblemKind::EngineLost, "the engine was lost", why) }
    }

    async fn lost(&mut self) -> Event {
        self.ended = true;
        let status = match timeout(LAST_BREATH, self.child.wait()).await {
            Ok(status) => status,
            // It says nothing more, and goes on.
            Err(_) => self.child.kill().await.map(|()| ExitStatus::default()),
        };
        // What it said is a help, not a need.
        let last_words = (&mut self.notes).await.unwrap_or_default();
        let why = status.map_or_else(|error| error.to_string(), death);
        Event::Failed {
            problem: Problem::new(ProblemKind::EngineLost, "the engine was lost", why)
                .with_details(Vec::from(last_words).join("\n")),
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

/// How a process ended, in words.
fn death(status: ExitStatus) -> String {
    match (status.signal(), status.code()) {
        (Some(9), _) => "it was killed, by the system for want of memory or by somebody".to_owned(),
        (Some(6), _) => "it ended itself, most often for want of memory".to_owned(),
        (Some(signal), _) => format!("it crashed (signal {signal})"),
        (None, code) => format!("it ended without an answer (exit code {})", code.unwrap_or(-1)),
    }
}
