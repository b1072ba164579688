//! What is expected of cells, remembered by value: a plan is a pure function, and sheets of thousands
//! of cells are asked for again and again.

use std::collections::{HashMap, HashSet};
use std::sync::{Arc, Mutex, PoisonError};

use beryl_core::forecast::Forecast;
use beryl_core::plan::plan;
use beryl_core::preset::{Preset, with_overrides};
use beryl_core::reading::Reading;
use beryl_store::runs::{Run, SettingsId};
use beryl_store::{Database, StoreError};
use serde_json::Value;
use uuid::Uuid;

use crate::outputs::NameParts;

/// Rows that are remembered; beyond that all are forgotten.
const MOST_ROWS: usize = 5000;

/// What is expected of a cell.
#[derive(Debug, Clone)]
pub(crate) struct Outlook {
    /// What it is expected to weigh, or why nothing can be made there.
    pub(crate) forecast: Result<Forecast, String>,
    /// The settings by which it would be made, where they are sound.
    pub(crate) settings: Option<Arc<Preset>>,
    /// What of it goes into its name.
    pub(crate) name: Option<Arc<NameParts>>,
}

/// The outlooks of cells that were asked for, and the settings that their runs had.
#[derive(Debug, Default)]
pub(crate) struct Forecasts {
    rows: Mutex<HashMap<Uuid, Row>>,
    settings: Mutex<HashMap<SettingsId, Arc<Preset>>>,
}

#[derive(Debug)]
struct Row {
    reading: Reading,
    cells: HashMap<Uuid, Kept>,
}

#[derive(Debug)]
struct Kept {
    preset: Arc<Preset>,
    overrides: Value,
    outlook: Outlook,
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
            ids.iter().filter_map(|id| Some((*id, Arc::clone(kept.get(id)?)))).collect::<HashMap<_, _>>()
        };
        let found = known(&wanted);
        let unknown: Vec<SettingsId> = wanted.iter().copied().filter(|id| !found.contains_key(id)).collect();
        let read = database.run_settings(&unknown).await?;
        self.settings
            .lock()
            .unwrap_or_else(PoisonError::into_inner)
            .extend(read.into_iter().map(|(id, settings)| (id, Arc::new(settings))));
        Ok(known(&wanted))
    }

    /// The outlooks of a row: for each column its id, its preset and the cell's own settings.
    pub(crate) fn of_row(&self, source: Uuid, reading: &Reading, columns: &[(Uuid, &Arc<Preset>, &Value)]) -> Vec<Outlook> {
        let mut rows = self.rows.lock().unwrap_or_else(PoisonError::into_inner);
        if rows.len() > MOST_ROWS {
            rows.clear();
        }
        let row = rows.entry(source).or_insert_with(|| Row { reading: reading.clone(), cells: HashMap::new() });
        if row.reading != *reading {
            *row = Row { reading: reading.clone(), cells: HashMap::new() };
        }
        let outlook = |(column, preset, overrides): &(Uuid, &Arc<Preset>, &Value)| {
            let is_same = |kept: &&Kept| kept.preset == **preset && kept.overrides == **overrides;
            if let Some(kept) = row.cells.get(column).filter(is_same) {
                return kept.outlook.clone();
            }
            let planned = plan(reading, preset, overrides);
            let outlook = Outlook {
                name: planned.as_ref().ok().map(|plan| Arc::new(NameParts::of(plan))),
                forecast: planned.map(|plan| plan.forecast).map_err(|error| error.to_string()),
                settings: with_overrides(preset, overrides).ok().map(|preset| Arc::new(preset.settings())),
            };
            let kept = Kept { preset: Arc::clone(preset), overrides: (*overrides).clone(), outlook: outlook.clone() };
            row.cells.insert(*column, kept);
            outlook
        };
        columns.iter().map(outlook).collect()
    }
}
