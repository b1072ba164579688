//! The storages of the house, as this machine has them.

use std::collections::HashMap;
use std::path::Path;

use beryl_core::problem::{Problem, ProblemKind};
use beryl_core::protocol::{FileRef, Job, Root};
use beryl_core::storage::{MARKER, StorageRoot, names};
use uuid::Uuid;

/// Markers are short; what is longer is none.
const LONGEST_MARKER: u64 = 1 << 16;

/// What the starter says of them: `--storages`, with a list as JSON.
pub(crate) struct Storages(Vec<StorageRoot>);

impl Storages {
    pub(crate) fn told() -> Self {
        let told = std::env::args().skip_while(|argument| argument != "--storages").nth(1);
        Self(told.and_then(|told| serde_json::from_str(&told).ok()).unwrap_or_default())
    }

    /// Those of which it is known where they are. None is looked at: a share that does not answer would hold up jobs that
    /// have nothing to do with it.
    pub(crate) fn known(&self) -> Vec<Uuid> {
        self.0.iter().map(|storage| storage.id).collect()
    }

    /// Tells a job where its storages are.
    ///
    /// # Errors
    /// That one of them is not there.
    pub(crate) fn place(&self, job: &mut Job) -> Result<(), Problem> {
        // Each is looked at once, however many files of the job lie in it.
        let mut there = HashMap::new();
        job.files_mut().into_iter().try_for_each(|file| self.place_file(file, &mut there))
    }

    fn place_file(&self, file: &mut FileRef, there: &mut HashMap<Uuid, bool>) -> Result<(), Problem> {
        let Root::Storage(wanted) = &file.root else { return Ok(()) };
        let known = self.0.iter().find(|storage| storage.id == wanted.id);
        match known.filter(|storage| *there.entry(storage.id).or_insert_with(|| is_there(storage))) {
            Some(storage) => {
                file.root = Root::Folder(storage.folder.clone());
                Ok(())
            }
            None => {
                let what = format!("{} could not be reached", file.path.name());
                let why = known.map_or_else(
                    || format!("the storage “{}” is not known where the engine runs", wanted.name),
                    |storage| {
                        format!("the storage “{}” is not mounted at {}: its marker is not there", wanted.name, storage.folder)
                    },
                );
                Err(Problem::new(ProblemKind::Unreachable, what, why).with_next("Mount it, then retry."))
            }
        }
    }
}

fn is_there(storage: &StorageRoot) -> bool {
    let marker = Path::new(&storage.folder).join(MARKER);
    let is_short = || std::fs::metadata(&marker).is_ok_and(|found| found.is_file() && found.len() < LONGEST_MARKER);
    !storage.is_marked || is_short() && std::fs::read_to_string(&marker).is_ok_and(|text| names(&text, storage.id))
}
