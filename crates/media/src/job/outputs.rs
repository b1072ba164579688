//! The files of a job's outputs, created before it begins.

use std::collections::HashMap;
use std::fs::File;
use std::path::Path;
use std::sync::{Mutex, PoisonError};

use beryl_core::path::StoragePath;
use beryl_core::protocol::{EncodeRun, SourceRef};
use cap_std::fs::OpenOptions;
use uuid::Uuid;

use crate::source::{open_root, system_path};

/// The files into which runs write, open and empty. Nothing else is opened for writing afterwards, so
/// that a process can close every other door in between.
#[derive(Debug, Default)]
pub struct Outputs(Mutex<HashMap<Uuid, std::io::Result<File>>>);

impl Outputs {
    /// Creates the file of each run under its temporary name. One that cannot be created fails its run when
    /// it is to be written.
    #[must_use]
    pub fn create(runs: &[EncodeRun]) -> Self {
        Self(Mutex::new(runs.iter().map(|run| (run.id, create(run))).collect()))
    }

    /// The file of a run, once.
    pub(super) fn take(&self, run: Uuid) -> std::io::Result<File> {
        let taken = self.0.lock().unwrap_or_else(PoisonError::into_inner).remove(&run);
        taken.unwrap_or_else(|| Err(std::io::Error::other("its file was not created")))
    }
}

/// Whether the folder of a run's output holds neither the source nor a folder that leads to it.
#[must_use]
pub fn lies_apart(source: &SourceRef, run: &EncodeRun) -> bool {
    let resolved = |root: &str, path: &StoragePath| std::fs::canonicalize(Path::new(root).join(system_path(path)));
    match (resolved(&source.file.root, &source.file.path), resolved(&run.output.root, &run.output.path.parent())) {
        (Ok(source), Ok(folder)) => !source.starts_with(folder),
        // What cannot be told apart is taken for the same.
        _ => false,
    }
}

fn create(run: &EncodeRun) -> std::io::Result<File> {
    let folder = open_root(&run.output).map_err(|problem| std::io::Error::other(problem.details))?;
    let mut options = OpenOptions::new();
    options.write(true).read(true).create_new(true);
    Ok(folder.open_with(system_path(&run.output.path), &options)?.into_std())
}
