//! The one door to the files of storages.
//!
//! A folder of another machine can stop answering at any moment, and whoever has asked it for something
//! then waits in the kernel, where nothing can be called back. So all work with files goes through
//! here: off the threads that answer requests, a few at a time for each storage, and with a limit after
//! which whoever asked is told that the storage cannot be reached. Its other callers are told so at
//! once, until the call that hangs comes back: that is how the storage is tried again.

use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use beryl_core::problem::{Problem, ProblemKind};
use chrono::{DateTime, Local, Utc};
use tokio::sync::Semaphore;
use tokio::time::timeout;

/// How long a storage may take to answer.
const PATIENCE: Duration = Duration::from_secs(20);
/// How long looking through folders may take.
const WALK: Duration = Duration::from_secs(300);
/// Calls at the same time into one storage.
const PLACES: usize = 8;
/// Of them, those that look through folders.
const WALKS: usize = 3;

/// The door.
#[derive(Debug)]
pub(crate) struct Door {
    gates: Mutex<HashMap<PathBuf, Arc<Gate>>>,
    patience: Duration,
}

impl Default for Door {
    fn default() -> Self {
        Self { gates: Mutex::default(), patience: PATIENCE }
    }
}

/// The part of the door that leads to one storage.
#[derive(Debug)]
struct Gate {
    places: Arc<Semaphore>,
    walks: Arc<Semaphore>,
    /// Since when it does not answer.
    away: Mutex<Option<DateTime<Utc>>>,
}

impl Default for Gate {
    fn default() -> Self {
        Self { places: Arc::new(Semaphore::new(PLACES)), walks: Arc::new(Semaphore::new(WALKS)), away: Mutex::default() }
    }
}

impl Gate {
    fn away(&self) -> Option<DateTime<Utc>> {
        *self.away.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn set_away(&self, since: Option<DateTime<Utc>>) {
        let mut away = self.away.lock().unwrap_or_else(PoisonError::into_inner);
        *away = since.map(|since| away.unwrap_or(since));
    }
}

/// A look through folders that may be called off.
#[derive(Debug, Clone)]
pub(crate) struct Walk {
    is_off: Arc<AtomicBool>,
    until: Instant,
}

impl Walk {
    /// Whether it goes on.
    ///
    /// # Errors
    /// A [`Problem`] where nobody waits for it any more, or it has taken too long.
    pub(crate) fn goes_on(&self) -> Result<(), Problem> {
        let stopped = |why: &str| Problem::new(ProblemKind::Cancelled, "the folder could not be looked through", why);
        if self.is_off.load(Ordering::Relaxed) {
            return Err(stopped("nobody waits for it any more"));
        }
        if Instant::now() > self.until {
            return Err(stopped("it took longer than five minutes").with_next("Choose a folder further down."));
        }
        Ok(())
    }
}

/// Calls a walk off when whoever asked for it has gone away.
struct CallOff(Arc<AtomicBool>);

impl Drop for CallOff {
    fn drop(&mut self) {
        self.0.store(true, Ordering::Relaxed);
    }
}

impl Door {
    /// Since when the storage with this root does not answer.
    pub(crate) fn away_since(&self, root: &Path) -> Option<DateTime<Utc>> {
        self.gate(root).away()
    }

    /// Does something short with files below `root`.
    ///
    /// # Errors
    /// What `work` answers, or that the storage cannot be reached.
    pub(crate) async fn work<T: Send + 'static>(
        &self,
        root: &Path,
        work: impl FnOnce() -> Result<T, Problem> + Send + 'static,
    ) -> Result<T, Problem> {
        let gate = self.gate(root);
        if let Some(since) = gate.away() {
            return Err(unreachable(root, since));
        }
        let began = Utc::now();
        match timeout(self.patience, inside(&gate, work)).await {
            Ok(outcome) => outcome,
            Err(_) => {
                gate.set_away(Some(began));
                Err(unreachable(root, began))
            }
        }
    }

    /// Does something with files below `root` that must come to its end, however long that takes: a finished
    /// file waits for its name until the storage is there again.
    ///
    /// # Errors
    /// What `work` answers.
    pub(crate) async fn surely<T: Send + 'static>(
        &self,
        root: &Path,
        work: impl FnOnce() -> Result<T, Problem> + Send + 'static,
    ) -> Result<T, Problem> {
        let gate = self.gate(root);
        let began = Utc::now();
        let mut working = std::pin::pin!(inside(&gate, work));
        if let Ok(outcome) = timeout(self.patience, &mut working).await {
            return outcome;
        }
        gate.set_away(Some(began));
        working.await
    }

    /// Looks through folders below `root`, as long as somebody waits for it.
    ///
    /// # Errors
    /// What `work` answers, or that the storage cannot be reached.
    pub(crate) async fn walk<T: Send + 'static>(
        &self,
        root: &Path,
        work: impl FnOnce(&Walk) -> Result<T, Problem> + Send + 'static,
    ) -> Result<T, Problem> {
        let gate = self.gate(root);
        if let Some(since) = gate.away() {
            return Err(unreachable(root, since));
        }
        let _turn = gate.walks.acquire().await.map_err(|error| lost(&error))?;
        let walk = Walk { is_off: Arc::default(), until: Instant::now() + WALK };
        let _caller = CallOff(Arc::clone(&walk.is_off));
        let began = Utc::now();
        match timeout(WALK + self.patience, inside(&gate, move || work(&walk))).await {
            Ok(outcome) => outcome,
            Err(_) => {
                gate.set_away(Some(began));
                Err(unreachable(root, began))
            }
        }
    }

    fn gate(&self, root: &Path) -> Arc<Gate> {
        let mut gates = self.gates.lock().unwrap_or_else(PoisonError::into_inner);
        Arc::clone(gates.entry(root.to_path_buf()).or_default())
    }
}

/// Does `work` on a thread of its own. Its place is taken until it ends, whoever waits for it.
async fn inside<T: Send + 'static>(
    gate: &Arc<Gate>,
    work: impl FnOnce() -> Result<T, Problem> + Send + 'static,
) -> Result<T, Problem> {
    let place = Arc::clone(&gate.places).acquire_owned().await.map_err(|error| lost(&error))?;
    let gate = Arc::clone(gate);
    let working = tokio::task::spawn_blocking(move || {
        let outcome = work();
        gate.set_away(None);
        drop(place);
        outcome
    });
    working.await.unwrap_or_else(|error| Err(lost(&error)))
}

fn lost(error: &dyn std::fmt::Display) -> Problem {
    Problem::new(ProblemKind::Internal, "the files could not be looked at", error.to_string())
}

fn unreachable(root: &Path, since: DateTime<Utc>) -> Problem {
    let since = since.with_timezone(&Local).format("%H:%M");
    let what = format!("the files below {} could not be reached", root.display());
    Problem::new(ProblemKind::Unreachable, what, format!("the storage has not answered since {since}"))
}

#[cfg(test)]
mod tests {
    use std::io::Write;

    use super::*;

    /// A call into a share that has gone away stands still in the kernel; reading a pipe that nobody writes
    /// into does the same.
    #[tokio::test]
    async fn a_storage_that_hangs_is_told_of_hinders_no_other_and_comes_back_by_itself() {
        let place = tempfile::tempdir().expect("a folder");
        let (share, disk) = (place.path().join("share"), place.path().join("disk"));
        let pipe = place.path().join("pipe");
        rustix::fs::mknodat(rustix::fs::CWD, &pipe, rustix::fs::FileType::Fifo, 0o600.into(), 0).expect("a pipe");
        let door = Door { patience: Duration::from_millis(300), ..Door::default() };
        let hanging = || {
            let pipe = pipe.clone();
            move || std::fs::read(pipe).map_err(|error| Problem::from_io("it could not be read", &error))
        };

        let first = door.work(&share, hanging()).await.expect_err("it does not answer");
        assert_eq!(first.kind, ProblemKind::Unreachable);
        assert!(door.away_since(&share).is_some());
        // Who comes later is told at once, without one more thread that hangs.
        let second = door.work(&share, || panic!("nothing is done there")).await.map(|(): ()| ());
        assert_eq!(second.expect_err("it is away").kind, ProblemKind::Unreachable);
        // What must come to its end waits, and does.
        assert_eq!(door.work(&disk, || Ok(7)).await, Ok(7));
        let mut ending = std::pin::pin!(door.surely(&share, || Ok(8)));
        assert_eq!(futures::poll!(&mut ending), std::task::Poll::Pending);

        let waiting = pipe.clone();
        tokio::task::spawn_blocking(move || std::fs::OpenOptions::new().write(true).open(waiting)?.write_all(b"back"))
            .await
            .expect("it ran")
            .expect("somebody reads");
        assert_eq!(ending.await, Ok(8));
        while door.away_since(&share).is_some() {
            tokio::task::yield_now().await;
        }
        assert_eq!(door.work(&share, || Ok(9)).await, Ok(9));
    }

    #[tokio::test]
    async fn a_walk_ends_when_nobody_waits_for_it() {
        let door = Door::default();
        let (told, ended) = std::sync::mpsc::channel();
        let (begun, has_begun) = tokio::sync::oneshot::channel();
        let walking = door.walk(Path::new("/"), move |walk| {
            begun.send(()).expect("somebody waits");
            while walk.goes_on().is_ok() {
                std::thread::yield_now();
            }
            told.send(()).expect("somebody waits");
            Ok(())
        });
        tokio::select! {
            outcome = walking => panic!("{outcome:?}"),
            _ = has_begun => {}
        }
        tokio::task::spawn_blocking(move || ended.recv_timeout(Duration::from_secs(10)))
            .await
            .expect("it ran")
            .expect("it ended");
    }
}
