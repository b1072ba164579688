//! Giving finished files their names, so that a crash at any moment leaves a file that is found again.

use std::path::{Path, PathBuf};

use beryl_core::flow::run::ClashRule;
use beryl_core::path::{PathError, StoragePath};
use beryl_core::problem::{Problem, ProblemKind};
use beryl_store::StoreError;
use beryl_store::runs::Lease;
use beryl_worker::{FileId, Placed, Replacing, candidate, place, remove_temporary};
use uuid::Uuid;

use crate::app::App;
use crate::files::{files_of, made_file, size_of};

/// Numbers that are tried before a name counts as taken for good.
const MOST_NUMBERS: u32 = 10_000;

/// Why a file did not get its name.
#[derive(Debug, thiserror::Error)]
pub(crate) enum PublishError {
    #[error(transparent)]
    Store(#[from] StoreError),
    #[error(transparent)]
    Refused(#[from] Problem),
}

/// A finished file that waits for its name.
#[derive(Debug, Clone)]
pub(crate) struct Finished {
    pub(crate) lease: Lease,
    /// What it was made from.
    pub(crate) source: Uuid,
    pub(crate) root: PathBuf,
    pub(crate) temporary: StoragePath,
    pub(crate) stem: StoragePath,
    pub(crate) extension: &'static str,
    pub(crate) clash: ClashRule,
}

/// Names the file by its rule. The name is noted in the database before it is given, so that a
/// server that starts after a crash knows which file is this run's.
pub(crate) async fn publish(app: &App, file: &Finished) -> Result<StoragePath, PublishError> {
    let kept = match file.clash {
        ClashRule::Replace => Some(sources_of(app, file.source).await?),
        ClashRule::Number | ClashRule::Skip => None,
    };
    let (root, temporary) = (file.root.clone(), file.temporary.clone());
    let made = app.door.surely(&file.root, move || made_file(&root, &temporary)).await?;
    for number in 1..MOST_NUMBERS {
        let target = candidate(&file.stem, file.extension, number).map_err(|error| name_problem(&error))?;
        if kept.is_some() && !may_be_replaced(app, file, &target).await? {
            return Err(not_ours(&target).into());
        }
        app.database.set_target(file.lease, &target, made).await?;
        match give_name(app, file, &target, kept.clone()).await? {
            Placed::Done => return Ok(target),
            Placed::Protected => return Err(not_ours(&target).into()),
            Placed::Taken if file.clash == ClashRule::Skip => {
                put_away(app, &file.root, &file.temporary).await?;
                return Err(skipped(&target).into());
            }
            Placed::Taken => {}
        }
    }
    Err(Problem::new(
        ProblemKind::NameTaken,
        format!("{} could not be named", file.stem.name()),
        "ten thousand numbers are taken",
    )
    .into())
}

/// The files that an output is made from.
async fn sources_of(app: &App, source: Uuid) -> Result<Vec<FileId>, PublishError> {
    let source = app.database.source(source).await?;
    let storage = app.database.storage(source.storage).await?;
    let root = PathBuf::from(storage.root);
    // Nothing is replaced while it is not known what must not be.
    let folder = root.clone();
    let looking = move || {
        let files = files_of(&source.path, source.sequence);
        Ok(files.iter().filter_map(|path| FileId::of(&folder, path)).collect())
    };
    Ok(app.door.surely(&root, looking).await?)
}

/// Whether a name is free or is that of a file that a run has made and nothing uses as a source.
async fn may_be_replaced(app: &App, file: &Finished, target: &StoragePath) -> Result<bool, PublishError> {
    let (root, path) = (file.root.clone(), target.clone());
    if app.door.surely(&file.root, move || size_of(&root, &path)).await?.is_none() {
        return Ok(true);
    }
    let storage = app.database.run(file.lease.run).await?.storage;
    Ok(app.database.is_own_output(storage, target).await? && !app.database.is_source(storage, target).await?)
}

/// What it means that the rule says “replace” and the file there is none that may be.
fn not_ours(target: &StoragePath) -> Problem {
    Problem::new(
        ProblemKind::NameTaken,
        format!("{} was not replaced", target.name()),
        "a file of this name is there that is a source, or that Beryl did not make",
    )
    .with_next("Move that file away or change the name, then release this one; it waits.")
}

/// What it means that the rule says “skip” and the name is taken.
pub(crate) fn skipped(target: &StoragePath) -> Problem {
    Problem::new(
        ProblemKind::NameTaken,
        format!("{} was left out", target.name()),
        "a file of this name is there already, and the deliverable says to skip it",
    )
}

pub(crate) fn name_problem(error: &PathError) -> Problem {
    Problem::new(ProblemKind::Invalid, "the output could not be named", error.to_string())
        .with_next("Change the name pattern or the folder of the deliverable.")
}

async fn give_name(app: &App, file: &Finished, target: &StoragePath, kept: Option<Vec<FileId>>) -> Result<Placed, Problem> {
    let (root, temporary, target) = (file.root.clone(), file.temporary.clone(), target.clone());
    let placing = move || {
        let replacing = kept.as_deref().map_or(Replacing::Never, Replacing::AllBut);
        place(&root, &temporary, &target, replacing)
    };
    app.door.surely(&file.root, placing).await
}

/// Removes what a run has written under its temporary name, as soon as the storage answers.
///
/// # Errors
/// A [`Problem`] where the system refuses.
pub(crate) async fn put_away(app: &App, root: &Path, temporary: &StoragePath) -> Result<(), Problem> {
    let (folder, temporary) = (root.to_path_buf(), temporary.clone());
    app.door.surely(root, move || remove_temporary(&folder, &temporary)).await
}
