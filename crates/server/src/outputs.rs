//! From the wish for an output to a run that can be queued: plan, name, place.

use beryl_core::after::cost::cpu_cost;
use beryl_core::after::forecast::Outlook;
use beryl_core::flow::run::ClashRule;
use beryl_core::path::StoragePath;
use beryl_core::plan::plan;
use beryl_core::preset::{Preset, PresetError, PresetPatch, with_overrides};
use beryl_core::problem::{Problem, ProblemKind};
use beryl_core::reading::Reading;
use beryl_store::runs::{NewRun, Origin};
use beryl_store::sources::{Knowledge, Known, Source};
use beryl_worker::{NameParts, NamedSource, not_named};
use chrono::NaiveDate;
use uuid::Uuid;

/// One source that shall become one output.
#[derive(Debug, Clone)]
pub(crate) struct Wish<'a> {
    pub(crate) source: &'a Source,
    /// Folders between the one that was chosen and the source.
    pub(crate) folder: &'a str,
    pub(crate) preset: &'a Preset,
    /// The editor's own settings.
    pub(crate) overrides: &'a PresetPatch,
    pub(crate) name_pattern: &'a str,
    /// Storage and folder; nothing for beside the source.
    pub(crate) destination: Option<(Uuid, StoragePath)>,
    pub(crate) clash: ClashRule,
    /// The place of the source among its like, from 1.
    pub(crate) counter: u32,
    /// The name of the sheet or of the watch folder.
    pub(crate) sheet: &'a str,
    /// The day of the run in the house's time zone.
    pub(crate) date: NaiveDate,
}

impl Wish<'_> {
    /// What would be made, and what it is expected to weigh.
    pub(crate) fn outlook(&self) -> Result<Outlook, Problem> {
        let Known { reading, samples } = known_of(self.source)?;
        let plan = plan(reading, self.preset, self.overrides).map_err(|error| {
            let what = format!("{} cannot be made of {}", self.preset.name, self.source.path.name());
            Problem::new(ProblemKind::Invalid, what, error.to_string())
        })?;
        Ok(Outlook::of(plan, &reading.facts, samples))
    }

    /// The settings by which it would be made.
    fn settings(&self) -> Result<Preset, Problem> {
        let impossible = |error: PresetError| {
            let what = format!("{} cannot be made", self.preset.name);
            Problem::new(ProblemKind::Invalid, what, error.to_string()).with_faults(error.faults())
        };
        Ok(with_overrides(self.preset, self.overrides).map_err(impossible)?.settings())
    }

    /// The name that an output gets, without number and ending.
    pub(crate) fn name(&self, output: &NameParts) -> Result<String, Problem> {
        let facts = reading_of(self.source).ok().map(|reading| &reading.facts);
        let source = NamedSource {
            stem: self.source.stem(),
            folder: self.folder,
            date: self.date,
            counter: self.counter,
            reel: facts.and_then(|facts| facts.reel.as_deref()),
            timecode: facts.and_then(|facts| facts.timecode.as_deref()),
            sheet: Some(self.sheet),
        };
        output.name(self.name_pattern, &source)
    }

    /// Where an output goes: storage, and path without number and ending.
    pub(crate) fn place(&self, output: &NameParts) -> Result<(Uuid, StoragePath), Problem> {
        let name = self.name(output)?;
        let (storage, folder) = self.destination.clone().unwrap_or_else(|| (self.source.storage, self.source.path.parent()));
        Ok((storage, folder.join(name.as_bytes()).map_err(|error| not_named(&error))?))
    }

    /// The run that makes it.
    pub(crate) fn run(&self, origin: Origin) -> Result<NewRun, Problem> {
        let Outlook { plan, forecast } = self.outlook()?;
        let (storage, stem) = self.place(&NameParts::of(&plan))?;
        Ok(NewRun {
            source: self.source.id,
            origin,
            settings: self.settings()?,
            expected_cpu: cpu_cost(&plan, &forecast),
            plan,
            storage,
            stem,
            clash: self.clash,
            priority: 0,
        })
    }
}

/// The reading of a source, or why there is none.
pub(crate) fn reading_of(source: &Source) -> Result<&Reading, Problem> {
    known_of(source).map(|known| &known.reading)
}

fn known_of(source: &Source) -> Result<&Known, Problem> {
    match &source.knowledge {
        Knowledge::Read(known) => Ok(known),
        Knowledge::Unreadable(problem) => Err(problem.clone()),
        Knowledge::Unread => {
            let what = format!("{} cannot be planned for yet", source.path.name());
            Err(Problem::new(ProblemKind::Invalid, what, "it has not been read").with_next("Wait until it is read."))
        }
    }
}
