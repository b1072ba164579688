//! How outputs are named: on their way, when they are finished, and when they wait for a person.

use std::fmt::Display;

use beryl_core::naming::{NameFields, name_for, numbered};
use beryl_core::path::{PathError, StoragePath};
use beryl_core::plan::Plan;
use beryl_core::problem::{Problem, ProblemKind};
use beryl_core::time::rate_text;
use chrono::NaiveDate;

/// Numbers that are tried before a name counts as taken for good.
pub const MOST_NUMBERS: u32 = 10_000;

/// What of a plan goes into the names of its files.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NameParts {
    preset: String,
    width: Option<u32>,
    height: Option<u32>,
    codec: String,
    rate: Option<String>,
    /// What stands behind the name of each file.
    pub endings: Vec<String>,
}

/// What goes into a name beside the plan.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NamedSource<'a> {
    /// The source's name without its extension.
    pub stem: String,
    /// Folders between the one that was chosen and the source.
    pub folder: &'a str,
    /// The day, in the house's time zone.
    pub date: NaiveDate,
    /// The place of the source among its like, from 1.
    pub counter: u32,
    /// Its reel, where it has one.
    pub reel: Option<&'a str>,
    /// The timecode of its first frame, where it has one.
    pub timecode: Option<&'a str>,
    /// The name of the sheet or of the watch folder, where there is one.
    pub sheet: Option<&'a str>,
}

impl NameParts {
    /// Of this plan.
    #[must_use]
    pub fn of(plan: &Plan) -> Self {
        let picture = plan.picture.as_ref();
        Self {
            preset: plan.preset.clone(),
            width: picture.map(|picture| picture.width),
            height: picture.map(|picture| picture.height),
            codec: plan.codec_word(),
            rate: picture.map(|picture| rate_text(picture.frame_rate.rate())),
            endings: endings(plan),
        }
    }

    /// The name that an output gets, without number and ending; it may have folders in it.
    ///
    /// # Errors
    /// A [`Problem`] where the pattern gives none.
    pub fn name(&self, pattern: &str, source: &NamedSource<'_>) -> Result<String, Problem> {
        let fields = NameFields {
            name: &source.stem,
            folders: source.folder,
            preset: &self.preset,
            columns: self.width,
            lines: self.height,
            codec: &self.codec,
            fps: self.rate.as_deref(),
            day: source.date,
            number: source.counter,
            reel: source.reel,
            timecode: source.timecode,
            sheet: source.sheet,
        };
        name_for(pattern, &fields).map_err(|error| not_named(&error))
    }
}

/// What stands behind the name of each file of a plan: “.mov”, “_A1.wav”.
#[must_use]
pub fn endings(plan: &Plan) -> Vec<String> {
    plan.artifacts().iter().map(|artifact| artifact.ending()).collect()
}

/// Why an output has no name.
#[must_use]
pub fn not_named(error: &dyn Display) -> Problem {
    Problem::new(ProblemKind::Invalid, "the output could not be named", error.to_string())
        .with_next("Change the name pattern or the folder of the deliverable.")
}

/// The temporary name, in the folder of `target`, of what `id` makes.
///
/// # Errors
/// A [`Problem`] where the folder's path is too long.
pub fn temporary_name(target: &StoragePath, id: &impl Display) -> Result<StoragePath, Problem> {
    target.parent().join(format!(".beryl-{id}.part").as_bytes()).map_err(|error| not_named(&error))
}

/// The temporary names, in the folder of `stem`, of the `count` files that `id` makes.
///
/// # Errors
/// A [`Problem`] where the folder's path is too long.
pub fn temporary_names(stem: &StoragePath, id: &impl Display, count: usize) -> Result<Vec<StoragePath>, Problem> {
    (1..=count).map(|number| temporary_name(stem, &format!("{id}-{number}"))).collect()
}

/// The `number`th names to try for `stem` with these endings: 1 gives the plain ones.
///
/// # Errors
/// A [`Problem`] where a name is too long or leaves the storage.
pub fn candidates(stem: &StoragePath, endings: &[String], number: u32) -> Result<Vec<StoragePath>, Problem> {
    endings.iter().map(|ending| candidate(stem, ending, number).map_err(|error| not_named(&error))).collect()
}

/// The `number`th name to try for a file with this ending.
///
/// # Errors
/// [`PathError`] where the name is too long or leaves the storage.
pub fn candidate(stem: &StoragePath, ending: &str, number: u32) -> Result<StoragePath, PathError> {
    stem.parent().join(format!("{}{ending}", numbered(&stem.name(), number)).as_bytes())
}

/// The `number`th name to try for a file that is withheld: one that nobody takes for a good file, nor a program for media.
pub(crate) fn withheld_candidate(stem: &StoragePath, ending: &str, number: u32) -> Result<StoragePath, PathError> {
    candidate(stem, &format!("{ending}.withheld"), number)
}
