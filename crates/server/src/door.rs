//! The one door to the files of storages.
//!
//! A folder of another machine can stop answering at any moment, and whoever has asked it for something
//! then waits in the kernel, where nothing can be called back. So all work with files goes through
//! here: off the threads that answer requests, a few at a time for each storage, and with a limit after
//! which whoever asked is told that the storage cannot be reached. Its other callers are told so at
//! once, until the call that hangs comes back: that is how the storage is tried again.
//!
//! A storage that bears a marker is there only where the marker is: before anything is done in it, that is looked at. An empty
//! mount point is no storage.

use std::collections::HashMap;
use std::io::Read;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use beryl_core::problem::{Problem, ProblemKind};
use beryl_core::storage::{MARKER, StorageName, names};
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
/// Bytes of a marker that are read.
const LONGEST_MARKER: u64 = 1 << 16;

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
    /// The storage that its marker has to name.
    marked: Mutex<Option<StorageName>>,
    /// Whether the marker was missing when it was last looked for.
    lacks_marker: AtomicBool,
}

impl Default for Gate {
    fn default() -> Self {
        Self {
            places: Arc::new(Semaphore::new(PLACES)),
            walks: Arc::new(Semaphore::new(WALKS)),
            away: Mutex::default(),
            marked: Mutex::default(),
            lacks_marker: AtomicBool::new(false),
        }
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

    /// Looks whether the storage itself is there, and not just a folder in its place.
    fn look_for_marker(&self, root: &Path) -> Result<(), Problem> {
        let marked = self.marked.lock().unwrap_or_else(PoisonError::into_inner).clone();
        let found = marked.as_ref().map_or(Ok(()), |storage| look_for_marker(root, storage));
        let is_missing = found.as_ref().is_err_and(|problem| problem.kind == ProblemKind::Unreachable);
        self.lacks_marker.store(is_missing, Ordering::Relaxed);
        found
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

    /// These storages bear a marker, and are not there without it; no others do.
    pub(crate) fn set_marked(&self, storages: &[(PathBuf, StorageName)]) {
        let mut gates = self.gates.lock().unwrap_or_else(PoisonError::into_inner);
        for (root, _) in storages {
            gates.entry(root.clone()).or_default();
        }
        for (root, gate) in gates.iter() {
            let storage = storages.iter().find(|(marked, _)| marked == root).map(|(_, storage)| storage.clone());
            *gate.marked.lock().unwrap_or_else(PoisonError::into_inner) = storage;
        }
    }

    /// Whether the storage with this root was not there when somebody last looked: its marker was missing.
    pub(crate) fn lacks_marker(&self, root: &Path) -> bool {
        self.gate(root).lacks_marker.load(Ordering::Relaxed)
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
        let (gate, folder) = (self.gate(root), root.to_path_buf());
        self.in_any_folder(root, move || gate.look_for_marker(&folder).and_then(|()| work())).await
    }

    /// The same in a folder that may not be the storage: for looking, and for marking it.
    ///
    /// # Errors
    /// What `work` answers, or that the folder cannot be reached.
    pub(crate) async fn in_any_folder<T: Send + 'static>(
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
        let (looking, folder) = (Arc::clone(&gate), root.to_path_buf());
        let mut working = std::pin::pin!(inside(&gate, move || looking.look_for_marker(&folder).and_then(|()| work())));
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
        let (looking, folder) = (Arc::clone(&gate), root.to_path_buf());
        let began = Utc::now();
        match timeout(WALK + self.patience, inside(&gate, move || looking.look_for_marker(&folder).and_then(|()| work(&walk))))
            .await
        {
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

/// The text of the marker in a folder; empty where there is none.
pub(crate) fn marker_in(root: &Path) -> std::io::Result<String> {
    let mut text = String::new();
    match std::fs::File::open(root.join(MARKER)) {
        Ok(file) => file.take(LONGEST_MARKER).read_to_string(&mut text).map(|_| text),
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(text),
        Err(error) => Err(error),
    }
}

fn look_for_marker(root: &Path, storage: &StorageName) -> Result<(), Problem> {
    let what = || format!("the storage “{}” could not be reached", storage.name);
    match marker_in(root) {
        Ok(marker) if names(&marker, storage.id) => Ok(()),
        Ok(_) => {
            let why = format!("{} has no marker of it ({MARKER}): it is not mounted there, or another volume is", root.display());
            Err(Problem::new(ProblemKind::Unreachable, what(), why)
                .with_next("Mount it. If this is the right folder, mark it again in the settings."))
        }
        Err(error) => Err(Problem::from_io(what(), &error)),
    }
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

    use beryl_core::storage::with_storage;

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
    async fn a_folder_without_the_marker_is_not_the_storage() {
        let place = tempfile::tempdir().expect("a folder");
        let (root, other) = (place.path().join("volume"), place.path().join("other"));
        [&root, &other].into_iter().for_each(|folder| std::fs::create_dir(folder).expect("a folder"));
        let [mine, strange] = [1, 2].map(|id| StorageName { id: uuid::Uuid::from_u128(id), name: "Volume".to_owned() });
        let door = Door::default();
        door.set_marked(&[(root.clone(), mine.clone())]);
        let marker = root.join(MARKER);
        for (text, is_there) in [
            (None, false),
            (Some(String::new()), false),
            (Some(with_storage("", &strange)), false),
            (Some(with_storage(&with_storage("", &strange), &mine)), true),
        ] {
            if let Some(text) = &text {
                std::fs::write(&marker, text).expect("a marker");
            }
            let outcome = door.work(&root, || Ok(())).await;
            assert_eq!(outcome.is_ok(), is_there, "{text:?}: {outcome:?}");
            assert_eq!(door.lacks_marker(&root), !is_there);
            if let Err(problem) = outcome {
                assert_eq!(problem.kind, ProblemKind::Unreachable);
            }
            assert_eq!(door.work(&other, || Ok(())).await, Ok(()), "others are not asked for one");
        }
        // A storage that was removed asks for nothing.
        std::fs::remove_file(&marker).expect("it was there");
        door.set_marked(&[]);
        assert_eq!(door.walk(&root, |_| Ok(7)).await, Ok(7));
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
