//! What is expected of cells, remembered by value: a plan is a pure function, and sheets of thousands
//! of cells are asked for again and again.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};

use beryl_core::forecast::Forecast;
use beryl_core::plan::plan;
use beryl_core::preset::Preset;
use beryl_core::reading::Reading;
use serde_json::Value;
use uuid::Uuid;

/// Rows that are remembered; beyond that all are forgotten.
const MOST_ROWS: usize = 5000;

/// What a cell is expected to weigh, or why nothing can be made there.
pub(crate) type Outlook = Result<Forecast, String>;

/// The outlooks of cells that were asked for.
#[derive(Debug, Default)]
pub(crate) struct Forecasts {
    rows: Mutex<HashMap<Uuid, Row>>,
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
            let outlook = plan(reading, preset, overrides).map(|plan| plan.forecast).map_err(|error| error.to_string());
            let kept = Kept { preset: Arc::clone(preset), overrides: (*overrides).clone(), outlook: outlook.clone() };
            row.cells.insert(*column, kept);
            outlook
        };
        columns.iter().map(outlook).collect()
    }
}
