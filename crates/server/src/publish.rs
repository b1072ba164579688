//! Giving finished files their names, so that a crash at any moment leaves a file that is found again.

use std::path::PathBuf;

use beryl_core::path::{PathError, StoragePath};
use beryl_core::problem::{Problem, ProblemKind};
use beryl_core::run::ClashRule;
use beryl_store::StoreError;
use beryl_store::runs::Lease;
use beryl_worker::{Placed, candidate, place, remove_temporary};

use crate::app::App;

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
    pub(crate) root: PathBuf,
    pub(crate) temporary: StoragePath,
    pub(crate) stem: StoragePath,
    pub(crate) extension: &'static str,
    pub(crate) clash: ClashRule,
}

/// Names the file by its rule. The name is noted in the database before it is given, so that a
/// server that starts after a crash knows which file is this run's.
pub(crate) async fn publish(app: &App, file: &Finished) -> Result<StoragePath, PublishError> {
    for number in 1..MOST_NUMBERS {
        let target = candidate(&file.stem, file.extension, number).map_err(|error| name_problem(&error))?;
        app.database.set_target(file.lease, &target).await?;
        match give_name(file, &target).await? {
            Placed::Done => return Ok(target),
            Placed::Taken if file.clash == ClashRule::Skip => {
                remove_temporary(&file.root, &file.temporary)?;
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

async fn give_name(file: &Finished, target: &StoragePath) -> Result<Placed, Problem> {
    let (root, temporary, target, replace) =
        (file.root.clone(), file.temporary.clone(), target.clone(), file.clash == ClashRule::Replace);
    let placing = tokio::task::spawn_blocking(move || place(&root, &temporary, &target, replace));
    placing
        .await
        .unwrap_or_else(|error| Err(Problem::new(ProblemKind::Internal, "the output could not be named", error.to_string())))
}
