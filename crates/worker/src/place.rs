//! Where engines run: on this machine now. A place starts them and sees their end; the conversation with them is the same
//! everywhere.

use std::fmt;
use std::os::unix::process::ExitStatusExt;
use std::path::PathBuf;
use std::process::{ExitStatus, Stdio};
use std::sync::{Arc, PoisonError, RwLock};
use std::time::Duration;

use beryl_core::problem::Problem;
use beryl_core::storage::StorageRoot;
use futures::future::BoxFuture;
use tokio::io::{AsyncRead, AsyncWrite};
use tokio::process::Child;
use tokio::time::timeout;

/// How long an engine may take to go that says nothing more.
const LAST_BREATH: Duration = Duration::from_secs(10);

/// A place where engines run.
pub trait Place: fmt::Debug + Send + Sync {
    /// Starts an engine.
    ///
    /// # Errors
    /// A [`Problem`] where it cannot be started.
    fn start(&self) -> Result<Link, Problem>;
}

/// The way to an engine and from it.
pub struct Link {
    /// What is said to it; where this ends, the engine ends too.
    pub input: Box<dyn AsyncWrite + Send + Unpin>,
    /// What it says.
    pub output: Box<dyn AsyncRead + Send + Unpin>,
    /// What it and the libraries say beside.
    pub notes: Box<dyn AsyncRead + Send + Unpin>,
    /// The engine itself; dropping it ends it.
    pub process: Box<dyn Process>,
}

/// An engine as whoever started it has it in hand.
pub trait Process: fmt::Debug + Send + Sync {
    /// Ends it at once.
    fn end(&mut self) -> BoxFuture<'_, ()>;

    /// Waits until it has gone, and ends it where that takes too long. Answers how it went, in words.
    fn gone(&mut self) -> BoxFuture<'_, String>;
}

/// Where the storages are on this machine, as engines that are started are told.
#[derive(Debug, Clone, Default)]
pub struct KnownStorages(Arc<RwLock<Vec<StorageRoot>>>);

impl KnownStorages {
    /// These are all, from now on.
    pub fn set(&self, storages: Vec<StorageRoot>) {
        *self.0.write().unwrap_or_else(PoisonError::into_inner) = storages;
    }

    /// As an engine reads them.
    fn document(&self) -> String {
        serde_json::to_string(&*self.0.read().unwrap_or_else(PoisonError::into_inner)).unwrap_or_default()
    }
}

/// This machine.
#[derive(Debug)]
pub struct LocalPlace {
    program: PathBuf,
    /// Where each engine gets a folder of its own to work in; nothing for the system's.
    scratch: Option<PathBuf>,
    storages: KnownStorages,
}

impl LocalPlace {
    /// Engines that are this program, each of which works in a folder of its own in `scratch`, or in the system's.
    #[must_use]
    pub fn new(program: PathBuf, scratch: Option<PathBuf>) -> Self {
        Self { program, scratch, storages: KnownStorages::default() }
    }

    /// The same; its engines know where these storages are.
    #[must_use]
    pub fn knowing(self, storages: KnownStorages) -> Self {
        Self { storages, ..self }
    }
}

impl Place for LocalPlace {
    fn start(&self) -> Result<Link, Problem> {
        let failed = |error: &std::io::Error| Problem::from_io("the engine could not be started", error);
        let folder = self.scratch.clone().unwrap_or_else(std::env::temp_dir);
        // From within, an engine may not remove the folder in which it works.
        let scratch = tempfile::Builder::new().prefix("beryl-").tempdir_in(folder).map_err(|error| failed(&error))?;
        let mut child = tokio::process::Command::new(&self.program)
            .args(["--storages", &self.storages.document()])
            .current_dir(scratch.path())
            // What the server knows of itself and of its database is nothing for a codec.
            .env_clear()
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .kill_on_drop(true)
            .spawn()
            .map_err(|error| failed(&error))?;
        let (Some(input), Some(output), Some(notes)) = (child.stdin.take(), child.stdout.take(), child.stderr.take()) else {
            return Err(failed(&std::io::Error::other("it has no input or output")));
        };
        let process = Box::new(LocalProcess { child, _scratch: scratch });
        Ok(Link { input: Box::new(input), output: Box::new(output), notes: Box::new(notes), process })
    }
}

#[derive(Debug)]
struct LocalProcess {
    child: Child,
    _scratch: tempfile::TempDir,
}

impl Process for LocalProcess {
    fn end(&mut self) -> BoxFuture<'_, ()> {
        // It may have gone by itself in the meantime.
        Box::pin(async { drop(self.child.kill().await) })
    }

    fn gone(&mut self) -> BoxFuture<'_, String> {
        Box::pin(async {
            let status = match timeout(LAST_BREATH, self.child.wait()).await {
                Ok(status) => status,
                // It says nothing more, and goes on.
                Err(_) => self.child.kill().await.map(|()| ExitStatus::default()),
            };
            status.map_or_else(|error| error.to_string(), death)
        })
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
