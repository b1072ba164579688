//! Engines: where they run, and the conversations that are held with them.

use std::collections::VecDeque;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

use beryl_core::after::quality::Comparison;
use beryl_core::findings::Curves;
use beryl_core::problem::{Problem, ProblemKind};
use beryl_core::protocol::{Answer, Command, FileRef, Job, PairFilm, Reference, SourceRef, Still};
use beryl_core::reading::Reading;
use tokio::sync::Semaphore;
use tokio::time::timeout;

use crate::files::remove_temporary;
use crate::place::{KnownStorages, LocalPlace, Place};
use crate::running::{Patience, RunningJob};

/// A probe or a still that takes longer is ended.
const SHORT_JOB: Duration = Duration::from_secs(60);
/// Engines at the same time, whatever they do; further ones wait.
const MOST_ENGINES: usize = 32;

/// Where engines run, and how they are watched.
#[derive(Debug, Clone)]
pub struct Engine {
    place: Arc<dyn Place>,
    patience: Patience,
    places: Arc<Semaphore>,
}

impl Engine {
    /// The engine beside the running program, or the one that `BERYL_ENGINE` names.
    ///
    /// # Errors
    /// A [`Problem`] that says where it was looked for.
    pub fn locate() -> Result<Self, Problem> {
        Self::program().map(|program| Self::at(LocalPlace::new(program, None)))
    }

    /// The same, each engine working in a folder of its own in `scratch` and knowing where these storages are.
    ///
    /// # Errors
    /// As [`Engine::locate`].
    pub fn locate_working_in(scratch: PathBuf, storages: &KnownStorages) -> Result<Self, Problem> {
        Self::program().map(|program| Self::at(LocalPlace::new(program, Some(scratch)).knowing(storages.clone())))
    }

    fn program() -> Result<PathBuf, Problem> {
        let named = std::env::var_os("BERYL_ENGINE").map(PathBuf::from);
        let beside = || {
            let folder = std::env::current_exe().ok()?.parent()?.to_path_buf();
            // Test programs lie one folder deeper than what they test.
            [folder.join("beryl-engine"), folder.join("../beryl-engine")].into_iter().find(|program| program.is_file())
        };
        match named.or_else(beside).filter(|program| program.is_file()) {
            Some(program) => Ok(program),
            None => Err(Problem::new(
                ProblemKind::Missing,
                "the engine could not be started",
                "the program beryl-engine is not beside this one, and BERYL_ENGINE names none",
            )
            .with_next("Build it with `cargo build --release`, or install both programs into the same folder.")),
        }
    }

    /// Engines at this place.
    #[must_use]
    pub fn at(place: impl Place + 'static) -> Self {
        Self { place: Arc::new(place), patience: Patience::default(), places: Arc::new(Semaphore::new(MOST_ENGINES)) }
    }

    /// Has engines ended that try this patience; otherwise it is the usual one.
    #[must_use]
    pub fn followed_with(self, patience: Patience) -> Self {
        Self { patience, ..self }
    }

    /// Starts an engine for `job`, once there is a place for one more. Dropping the result ends it.
    ///
    /// # Errors
    /// A [`Problem`] where the process cannot be started.
    pub async fn start(&self, job: &Job) -> Result<RunningJob, Problem> {
        let turn = Arc::clone(&self.places).acquire_owned().await;
        let turn = turn.map_err(|error| Problem::from_io("the engine could not be started", &std::io::Error::other(error)))?;
        RunningJob::begin(self.place.start()?, job, turn, self.patience)
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
    async fn stills(&self, source: &SourceRef, folder: &str) -> Result<OpenStills, Problem> {
        let running = self.start(&Job::Stills { source: source.clone(), folder: folder.to_owned() }).await?;
        Ok(OpenStills { name: source.file.path.name(), running, asked: VecDeque::new() })
    }

    /// Opens a source for single pictures, which are written where this file lies.
    ///
    /// # Errors
    /// As [`Engine::stills`].
    pub async fn stills_beside(&self, source: &SourceRef, output: &FileRef) -> Result<OpenStills, Problem> {
        let folder = output.folder().map_err(|error| Problem::from_io("the picture could not be written", &error))?;
        self.stills(source, &folder.to_string_lossy()).await
    }

    /// Writes one picture of a source.
    ///
    /// # Errors
    /// A [`Problem`] where there is no such picture or it cannot be written.
    pub async fn still(&self, source: &SourceRef, still: Still) -> Result<(), Problem> {
        self.stills_beside(source, &still.output).await?.write(still).await
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
    if let Ok(folder) = output.folder() {
        drop(remove_temporary(folder, &output.path));
    }
}
