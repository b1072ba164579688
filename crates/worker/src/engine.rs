//! An engine process and the conversation with it.

use std::collections::VecDeque;
use std::os::unix::process::ExitStatusExt;
use std::path::{Path, PathBuf};
use std::process::{ExitStatus, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use beryl_core::findings::Curves;
use beryl_core::problem::{Problem, ProblemKind};
use beryl_core::protocol::{Answer, Command, Event, FileRef, Job, PairFilm, Reference, RunNews, SourceRef, Still};
use beryl_core::quality::Comparison;
use beryl_core::reading::Reading;
use tokio::io::{AsyncBufReadExt, AsyncReadExt, AsyncWriteExt, BufReader, Lines};
use tokio::process::{Child, ChildStdout};
use tokio::sync::mpsc;
use tokio::time::{Instant, timeout};

use crate::publish::remove_temporary;

/// A job that moves nothing for this long is ended.
const STANDSTILL: Duration = Duration::from_secs(180);
/// A probe or a still that takes longer is ended.
const SHORT_JOB: Duration = Duration::from_secs(60);

/// Where the engine program is.
#[derive(Debug, Clone)]
pub struct Engine {
    program: PathBuf,
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
            Some(program) => Ok(Self { program }),
            None => Err(Problem::new(
                ProblemKind::Missing,
                "the engine could not be started",
                "the program beryl-engine is not beside this one, and BERYL_ENGINE names none",
            )
            .with_next("Build it with `cargo build --release`, or install both programs into the same folder.")),
        }
    }

    /// Starts an engine for `job`. Dropping the result ends it.
    ///
    /// # Errors
    /// A [`Problem`] where the process cannot be started.
    pub async fn start(&self, job: &Job) -> Result<RunningJob, Problem> {
        let failed = |error: &std::io::Error| Problem::from_io("the engine could not be started", error);
        let scratch = tempfile::Builder::new().prefix("beryl-").tempdir().map_err(|error| failed(&error))?;
        let mut child = tokio::process::Command::new(&self.program)
            .current_dir(scratch.path())
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .kill_on_drop(true)
            .spawn()
            .map_err(|error| failed(&error))?;
        let (Some(mut stdin), Some(stdout)) = (child.stdin.take(), child.stdout.take()) else {
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
            lines: BufReader::new(stdout).lines(),
            control: JobControl { commands, paused: Arc::default() },
            _scratch: scratch,
            ended: false,
            moved: Instant::now(),
            last_seen: 0,
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

    /// Opens a source for single pictures. Dropping the result closes it.
    ///
    /// # Errors
    /// A [`Problem`] where the engine cannot be started.
    pub async fn stills(&self, source: &SourceRef) -> Result<OpenStills, Problem> {
        let running = self.start(&Job::Stills { source: source.clone() }).await?;
        Ok(OpenStills { name: source.file.path.name(), running, asked: VecDeque::new() })
    }

    /// Writes one picture of a source.
    ///
    /// # Errors
    /// A [`Problem`] where there is no such picture or it cannot be written.
    pub async fn still(&self, source: &SourceRef, still: Still) -> Result<(), Problem> {
        self.stills(source).await?.write(still).await
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
    lines: Lines<BufReader<ChildStdout>>,
    control: JobControl,
    _scratch: tempfile::TempDir,
    ended: bool,
    moved: Instant,
    last_seen: u64,
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
            let line = match timeout(STANDSTILL, self.lines.next_line()).await {
                Ok(Ok(Some(line))) => line,
                Ok(Ok(None) | Err(_)) => return Some(self.lost().await),
                Err(_) => return Some(self.stuck().await),
            };
            let Ok(event) = serde_json::from_str::<Event>(&line) else { continue };
            match &event {
                Event::Ended { .. } => self.ended = true,
                Event::Run { news: RunNews::Progress { progress }, .. } => {
                    let seen = progress.frames.wrapping_add(progress.bytes).wrapping_add(u64::from(progress.pass));
                    if seen != self.last_seen {
                        self.last_seen = seen;
                        self.moved = Instant::now();
                    }
                }
                Event::Answer(_) | Event::Run { .. } | Event::Failed { .. } => self.moved = Instant::now(),
            }
            if self.moved.elapsed() > STANDSTILL {
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
        let why = format!("it moved nothing for {} seconds and was ended", STANDSTILL.as_secs());
        Event::Failed { problem: Problem::new(ProblemKind::EngineLost, "the engine was lost", why) }
    }

    async fn lost(&mut self) -> Event {
        self.ended = true;
        let status = self.child.wait().await;
        let mut last_words = String::new();
        if let Some(stderr) = self.child.stderr.as_mut() {
            // What it said is a help, not a need.
            drop(stderr.take(16_384).read_to_string(&mut last_words).await);
        }
        let why = status.map_or_else(|error| error.to_string(), death);
        Event::Failed {
            problem: Problem::new(ProblemKind::EngineLost, "the engine was lost", why).with_details(last_words.trim()),
        }
    }
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
