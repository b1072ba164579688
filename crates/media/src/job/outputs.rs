//! The files of a job's outputs, created before it begins.

use std::collections::HashMap;
use std::fs::File;
use std::sync::{Mutex, PoisonError};

use beryl_core::path::StoragePath;
use beryl_core::protocol::{EncodeRun, FileRef, SourceRef};
use cap_std::fs::OpenOptions;
use uuid::Uuid;

use crate::source::{open_root, system_path};

/// The files into which runs write, open and empty. Nothing else is opened for writing afterwards, so
/// that a process can close every other door in between.
#[derive(Debug, Default)]
pub struct Outputs(Mutex<HashMap<Uuid, Vec<std::io::Result<File>>>>);

impl Outputs {
    /// Creates the files of each run under their temporary names. One that cannot be created fails its run when
    /// it is to be written.
    #[must_use]
    pub fn create(runs: &[EncodeRun]) -> Self {
        let files = |run: &EncodeRun| run.outputs.iter().map(create).collect();
        Self(Mutex::new(runs.iter().map(|run| (run.id, files(run))).collect()))
    }

    /// The files of a run, once.
    pub(super) fn take(&self, run: Uuid) -> Vec<std::io::Result<File>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).remove(&run).unwrap_or_default()
    }
}

/// Whether the folder of an output holds neither the source nor a folder that leads to it.
#[must_use]
pub fn lies_apart(source: &SourceRef, output: &FileRef) -> bool {
    let resolved = |file: &FileRef, path: &StoragePath| std::fs::canonicalize(file.folder()?.join(system_path(path)));
    match (resolved(&source.file, &source.file.path), resolved(output, &output.path.parent())) {
        (Ok(source), Ok(folder)) => !source.starts_with(folder),
        // What cannot be told apart is taken for the same.
        _ => false,
    }
}

fn create(output: &FileRef) -> std::io::Result<File> {
    let folder = open_root(output).map_err(|problem| std::io::Error::other(problem.details))?;
    let mut options = OpenOptions::new();
    options.write(true).read(true).create_new(true);
    Ok(folder.open_with(system_path(&output.path), &options)?.into_std())
}
