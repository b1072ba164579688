//! Giving finished files their names, so that a crash at any moment leaves a file that is found again.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use beryl_core::flow::placing::Made;
use beryl_core::flow::run::ClashRule;
use beryl_core::path::StoragePath;
use beryl_core::problem::{Problem, ProblemKind};
use beryl_store::runs::Lease;
use beryl_store::{Database, StoreError};
use beryl_worker::{FileId, MOST_NUMBERS, Placed, Placing, Replacing, candidates, made, place, remove_temporary};
use uuid::Uuid;

use crate::door::Door;
use crate::files::{files_of, size_of};

/// Gives finished files their names.
#[derive(Debug, Clone)]
pub(crate) struct Publisher {
    pub(crate) database: Database,
    pub(crate) door: Arc<Door>,
}

/// Why a file did not get its name.
#[derive(Debug, thiserror::Error)]
pub(crate) enum PublishError {
    #[error(transparent)]
    Store(#[from] StoreError),
    #[error(transparent)]
    Refused(#[from] Problem),
}

/// Finished files that wait for their names.
#[derive(Debug, Clone)]
pub(crate) struct Finished {
    pub(crate) lease: Lease,
    /// What it was made from.
    pub(crate) source: Uuid,
    pub(crate) root: PathBuf,
    pub(crate) temporaries: Vec<StoragePath>,
    pub(crate) stem: StoragePath,
    /// What stands behind the name of each.
    pub(crate) endings: Vec<String>,
    pub(crate) clash: ClashRule,
}

impl Publisher {
    /// Names the files by their rule. The names are noted in the database before they are given, so that a
    /// server that starts after a crash knows which files are this run's.
    pub(crate) async fn publish(&self, files: &Finished) -> Result<(), PublishError> {
        let replacing = self.replacing(files).await?;
        let known = self.known(files).await?;
        for number in 1..MOST_NUMBERS {
            let targets = candidates(&files.stem, &files.endings, number)?;
            for target in targets.iter().filter(|_| files.clash == ClashRule::Replace) {
                if !self.may_be_replaced(files, target).await? {
                    return Err(not_ours(target).into());
                }
            }
            let noted: Vec<(StoragePath, Made)> = targets.into_iter().zip(known.iter().copied()).collect();
            self.database.set_targets(files.lease, &noted).await?;
            let placing = files.temporaries.iter().zip(noted);
            let placing: Vec<Placing> =
                placing.map(|(temporary, (target, made))| Placing { temporary: temporary.clone(), target, made }).collect();
            match self.give_names(&files.root, placing.clone(), replacing.clone()).await? {
                Placed::Done => return Ok(()),
                Placed::Protected(file) => return Err(not_ours(&placing[file].target).into()),
                Placed::Missing(file) => return Err(gone(&placing[file].temporary).into()),
                Placed::Taken(file) if files.clash == ClashRule::Skip => {
                    self.put_away(&files.root, &files.temporaries).await?;
                    return Err(skipped(&placing[file].target).into());
                }
                Placed::Taken(_) => {}
            }
        }
        Err(Problem::new(
            ProblemKind::NameTaken,
            format!("{} could not be named", files.stem.name()),
            "ten thousand numbers are taken",
        )
        .into())
    }

    /// Goes on with names that were noted before a crash; answers whether all files have theirs now. Where not, they are all
    /// under their temporary names, as far as they are there.
    pub(crate) async fn resume(&self, files: &Finished, placing: Vec<Placing>) -> Result<bool, PublishError> {
        if placing.is_empty() {
            return Ok(false);
        }
        let replacing = self.replacing(files).await?;
        Ok(self.give_names(&files.root, placing, replacing).await? == Placed::Done)
    }

    /// Whose names may be taken.
    async fn replacing(&self, files: &Finished) -> Result<Replacing, PublishError> {
        Ok(match files.clash {
            ClashRule::Replace => Replacing::AllBut(self.sources_of(files.source).await?),
            ClashRule::Number | ClashRule::Skip => Replacing::Never,
        })
    }

    /// By what the files are known.
    async fn known(&self, files: &Finished) -> Result<Vec<Made>, Problem> {
        let (root, temporaries) = (files.root.clone(), files.temporaries.clone());
        self.door.surely(&files.root, move || temporaries.iter().map(|file| made(&root, file)).collect()).await
    }

    /// The files that an output is made from.
    async fn sources_of(&self, source: Uuid) -> Result<Vec<FileId>, PublishError> {
        let source = self.database.source(source).await?;
        let storage = self.database.storage(source.storage).await?;
        let root = PathBuf::from(storage.root);
        // Nothing is replaced while it is not known what must not be.
        let folder = root.clone();
        let looking = move || {
            let files = files_of(&source.path, source.sequence);
            Ok(files.iter().filter_map(|path| FileId::of(&folder, path)).collect())
        };
        Ok(self.door.surely(&root, looking).await?)
    }

    /// Whether a name is free or is that of a file that a run has made and nothing uses as a source.
    async fn may_be_replaced(&self, files: &Finished, target: &StoragePath) -> Result<bool, PublishError> {
        let (root, path) = (files.root.clone(), target.clone());
        if self.door.surely(&files.root, move || size_of(&root, &path)).await?.is_none() {
            return Ok(true);
        }
        let storage = self.database.run(files.lease.run).await?.storage;
        Ok(self.database.is_own_output(storage, target).await? && !self.database.is_source(storage, target).await?)
    }

    async fn give_names(&self, root: &Path, placing: Vec<Placing>, replacing: Replacing) -> Result<Placed, Problem> {
        let folder = root.to_path_buf();
        self.door.surely(root, move || place(&folder, &placing, &replacing)).await
    }

    /// Removes what a run has written under its temporary names, as soon as the storage answers.
    ///
    /// # Errors
    /// A [`Problem`] where the system refuses.
    pub(crate) async fn put_away(&self, root: &Path, temporaries: &[StoragePath]) -> Result<(), Problem> {
        let (folder, temporaries) = (root.to_path_buf(), temporaries.to_vec());
        self.door.surely(root, move || temporaries.iter().try_for_each(|temporary| remove_temporary(&folder, temporary))).await
    }
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

/// What it means that a finished file is not there any more.
fn gone(file: &StoragePath) -> Problem {
    Problem::new(ProblemKind::Missing, format!("{} could not be named", file.name()), "it is not there any more")
}
