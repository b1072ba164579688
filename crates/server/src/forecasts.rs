//! What is expected of cells, remembered by value: a plan is a pure function, and sheets of thousands
//! of cells are asked for again and again.

use std::sync::{Arc, Mutex, PoisonError};

use beryl_core::after::forecast::{Forecast, forecast};
use beryl_core::path::StoragePath;
use beryl_core::plan::plan;
use beryl_core::preset::{Preset, PresetPatch, with_overrides};
use beryl_store::runs::{Run, SettingsId};
use beryl_store::sources::Known;
use beryl_store::{Database, StoreError};
use beryl_worker::NameParts;
use chrono::NaiveDate;
use foldhash::{HashMap, HashMapExt, HashSet};
use uuid::Uuid;

use crate::outputs::Wish;
use crate::views::WrittenRun;

/// Rows that are remembered; beyond that all are forgotten.
const MOST_ROWS: usize = 5000;
/// Runs that are remembered.
const MOST_RUNS: usize = 50_000;

/// What is expected of a cell.
#[derive(Debug, Clone)]
pub(crate) struct CellOutlook {
    /// What it is expected to weigh, or why nothing can be made there.
    pub(crate) forecast: Result<Forecast, String>,
    /// The settings by which it would be made, where they are sound.
    pub(crate) settings: Option<Arc<Preset>>,
    /// Where it would go.
    pub(crate) place: Option<Arc<OutputPlace>>,
}

/// Where an output would go.
#[derive(Debug)]
pub(crate) struct OutputPlace {
    storage: Uuid,
    stem: StoragePath,
    endings: Vec<String>,
}

impl OutputPlace {
    /// Its files: two outputs that would both get one of them would clash.
    pub(crate) fn files(&self) -> impl Iterator<Item = (Uuid, &StoragePath, &str)> {
        self.endings.iter().map(|ending| (self.storage, &self.stem, ending.as_str()))
    }
}

/// A cell that is asked for: its column, the column's preset and the wish for it.
pub(crate) struct Asked<'a> {
    pub(crate) column: Uuid,
    pub(crate) preset: &'a Arc<Preset>,
    pub(crate) wish: Wish<'a>,
}

/// The outlooks of cells that were asked for, their last runs as they are sent, and the settings that those had.
#[derive(Debug, Default)]
pub(crate) struct Forecasts {
    rows: Mutex<HashMap<Uuid, Row>>,
    runs: Mutex<HashMap<Uuid, (Arc<Run>, WrittenRun)>>,
    settings: Mutex<Settings>,
}

/// Equal settings are kept once, so that most comparisons are of two pointers.
#[derive(Debug, Default)]
struct Settings {
    of_runs: HashMap<SettingsId, Arc<Preset>>,
    by_document: HashMap<String, Arc<Preset>>,
}

impl Settings {
    fn shared(&mut self, settings: Preset) -> Arc<Preset> {
        let Ok(document) = serde_json::to_string(&settings) else { return Arc::new(settings) };
        if self.by_document.len() > MOST_ROWS {
            self.by_document.clear();
        }
        Arc::clone(self.by_document.entry(document).or_insert_with(|| Arc::new(settings)))
    }
}

#[derive(Debug)]
struct Row {
    known: Arc<Known>,
    cells: HashMap<Uuid, Kept>,
}

#[derive(Debug)]
struct Kept {
    preset: Arc<Preset>,
    overrides: PresetPatch,
    name: Option<NameParts>,
    named_by: NamedBy,
    outlook: Arc<CellOutlook>,
}

/// What gives an output its name, beside its plan.
#[derive(Debug, PartialEq, Eq)]
struct NamedBy {
    pattern: String,
    folder: String,
    destination: Option<(Uuid, StoragePath)>,
    counter: u32,
    sheet: String,
    date: NaiveDate,
}

impl NamedBy {
    fn of(wish: &Wish<'_>) -> Self {
        Self {
            pattern: wish.name_pattern.to_owned(),
            folder: wish.folder.to_owned(),
            destination: wish.destination.clone(),
            counter: wish.counter,
            sheet: wish.sheet.to_owned(),
            date: wish.date,
        }
    }

    fn is_of(&self, wish: &Wish<'_>) -> bool {
        self.pattern == wish.name_pattern
            && self.folder == wish.folder
            && self.destination == wish.destination
            && self.sheet == wish.sheet
            && (self.counter, self.date) == (wish.counter, wish.date)
    }
}

fn place_of(wish: &Wish<'_>, name: Option<&NameParts>) -> Option<Arc<OutputPlace>> {
    let name = name?;
    let (storage, stem) = wish.place(name).ok()?;
    Some(Arc::new(OutputPlace { storage, stem, endings: name.endings.clone() }))
}

impl Forecasts {
    /// The settings that runs had.
    pub(crate) async fn settings_of(
        &self,
        database: &Database,
        runs: impl Iterator<Item = &Run>,
    ) -> Result<HashMap<SettingsId, Arc<Preset>>, StoreError> {
        let wanted: HashSet<SettingsId> = runs.filter_map(|run| run.settings).collect();
        let known = |ids: &HashSet<SettingsId>| {
            let kept = self.settings.lock().unwrap_or_else(PoisonError::into_inner);
            ids.iter().filter_map(|id| Some((*id, Arc::clone(kept.of_runs.get(id)?)))).collect::<HashMap<_, _>>()
        };
        let found = known(&wanted);
        let unknown: Vec<SettingsId> = wanted.iter().copied().filter(|id| !found.contains_key(id)).collect();
        let read = database.run_settings(&unknown).await?;
        {
            let mut kept = self.settings.lock().unwrap_or_else(PoisonError::into_inner);
            for (id, settings) in read {
                let settings = kept.shared(settings);
                kept.of_runs.insert(id, settings);
            }
        }
        Ok(known(&wanted))
    }

    /// A run as it is sent, written once as long as it does not change.
    pub(crate) fn written(&self, run: &Arc<Run>) -> Option<WrittenRun> {
        let mut runs = self.runs.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some((known, written)) = runs.get(&run.id)
            && Arc::ptr_eq(known, run)
        {
            return Some(written.clone());
        }
        if runs.len() > MOST_RUNS {
            runs.clear();
        }
        let written = WrittenRun::of(run)?;
        runs.insert(run.id, (Arc::clone(run), written.clone()));
        Some(written)
    }

    /// A preset, where there is an equal one the same as that: whether two are equal is seen at once.
    pub(crate) fn shared(&self, preset: &Preset) -> Arc<Preset> {
        self.settings.lock().unwrap_or_else(PoisonError::into_inner).shared(preset.clone())
    }

    /// The outlooks of a row's cells.
    pub(crate) fn of_row(&self, source: Uuid, known: &Arc<Known>, cells: &[Asked<'_>]) -> Vec<Arc<CellOutlook>> {
        let mut rows = self.rows.lock().unwrap_or_else(PoisonError::into_inner);
        if rows.len() > MOST_ROWS {
            rows.clear();
        }
        let row = rows.entry(source).or_insert_with(|| Row { known: Arc::clone(known), cells: HashMap::new() });
        if !Arc::ptr_eq(&row.known, known) && row.known != *known {
            *row = Row { known: Arc::clone(known), cells: HashMap::new() };
        }
        cells.iter().map(|asked| self.outlook(row, asked)).collect()
    }

    fn outlook(&self, row: &mut Row, asked: &Asked<'_>) -> Arc<CellOutlook> {
        let Asked { column, preset, wish } = asked;
        let is_same = |kept: &&mut Kept| kept.preset == **preset && kept.overrides == *wish.overrides;
        if let Some(kept) = row.cells.get_mut(column).filter(is_same) {
            if !kept.named_by.is_of(wish) {
                kept.named_by = NamedBy::of(wish);
                Arc::make_mut(&mut kept.outlook).place = place_of(wish, kept.name.as_ref());
            }
            return Arc::clone(&kept.outlook);
        }
        let Known { reading, samples } = &*row.known;
        let planned = plan(reading, preset, wish.overrides);
        let name = planned.as_ref().ok().map(NameParts::of);
        let settings = with_overrides(preset, wish.overrides).ok().map(|preset| {
            let mut kept = self.settings.lock().unwrap_or_else(PoisonError::into_inner);
            kept.shared(preset.settings())
        });
        let outlook = Arc::new(CellOutlook {
            place: place_of(wish, name.as_ref()),
            forecast: planned.map(|plan| forecast(&plan, &reading.facts, samples)).map_err(|error| error.to_string()),
            settings,
        });
        let (preset, overrides) = (Arc::clone(preset), wish.overrides.clone());
        let kept = Kept { preset, overrides, name, named_by: NamedBy::of(wish), outlook: Arc::clone(&outlook) };
        row.cells.insert(*column, kept);
        outlook
    }
}
